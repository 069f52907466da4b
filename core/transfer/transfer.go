// Package transfer moves the content of a disk from a reader to a writer, and takes its leaves on the way, so that the
// source is read once. Memory is bounded whatever the size of the disk.
package transfer

import (
	"context"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"golang.org/x/sync/errgroup"
)

const (
	// blockSize is how much is read and written at once: the size that was fastest (docs/performance.md), and a multiple of
	// a leaf.
	blockSize = 4 * fingerprint.LeafSize
	// fewest and most workers: how many blocks are under way at once. Between them, as many as pay off; those that have more than one
	// buffer are mostLarge at most.
	fewest, mostLarge, most = 3, 4, 6
	// trial is for how long a number of workers is measured.
	trial = 200 * time.Millisecond
	// gain is by how much one more has to speed things up to be worth its memory.
	gain = 1.03
	// zeroUnit is the length in which zeros inside of data are looked for; what is all zeros is not written.
	zeroUnit = 64 << 10
)

// Transfer reads a disk, and writes what it reads. Holes and known zeros are neither read nor written.
type Transfer struct {
	Source disk.Reader
	// Of says in errors what is read; empty for the source.
	Of string
	// Destination is new, or taken up again. It is not committed. Nil only reads.
	Destination disk.Writer
	// Base is what the destination stands on, if it does: only what differs from it is written.
	Base disk.Reader
	// Over tells that the destination has something already which is written over: zeros are written too.
	Over  bool
	Meter *Meter
	// Leaves are those of an earlier time, behind which it goes on. Nil begins.
	Leaves *fingerprint.Leaves
	// Keep gets marks from time to time, when what they speak of is on stable storage, and one at the end. It may be nil.
	Keep func(Mark) error
	// Every is the least time between two marks; what was done since the last one is done again after a crash.
	Every time.Duration
	// Known are the leaves of an earlier pass over the source, all of which the destination has: only what differs from them
	// is written. It is not for an Encoder. Nil for a first pass.
	Known *fingerprint.Leaves
	// Only are the ranges in which the source may differ from what is known, in their order; nothing else is read, by whole leaves. The
	// result has no tail where the last leaf is not read. Nil reads everything.
	Only []fingerprint.Range
	// Wait, unless it is nil, returns when n more bytes may be read.
	Wait func(ctx context.Context, n int64) error
	// PastDamage puts zeros in the place of what cannot be read, and goes on.
	PastDamage bool
}

// Result is what a transfer found.
type Result struct {
	Leaves *fingerprint.Leaves
	// Tail is the content of the last leaf when it is short, for [fingerprint.Leaves.Extended].
	Tail []byte
	// Damaged are the ranges of the source that could not be read.
	Damaged []fingerprint.Range
	// Changed counts the bytes in leaves that differ from those known.
	Changed int64
}

// DestinationError is an error of the destination, when not of the source.
type DestinationError struct{ Err error }

func (e *DestinationError) Error() string { return e.Err.Error() }
func (e *DestinationError) Unwrap() error { return e.Err }

// Run transfers all of the source, or what comes behind an earlier time.
func (t Transfer) Run(ctx context.Context) (Result, error) {
	r := &running{Transfer: t, unit: zeroUnit, ended: make(chan struct{})}
	if r.Leaves == nil {
		r.Leaves = fingerprint.NewLeaves(t.Source.Size())
	}
	r.placer, _ = t.Destination.(disk.Placer)
	if r.encoder, _ = t.Destination.(disk.Encoder); r.encoder != nil {
		r.unit = max(zeroUnit, r.encoder.Unit())
	}
	group, ctx := errgroup.WithContext(ctx)
	blocks := make(chan block)
	found := make(chan found, most)
	group.Go(func() error {
		defer close(r.ended)
		defer close(blocks)
		return r.cut(ctx, min(r.Leaves.Next()*fingerprint.LeafSize, t.Source.Size()), blocks)
	})
	working, workCtx := errgroup.WithContext(ctx)
	hire := func() { working.Go(func() error { return r.work(workCtx, blocks, found) }) }
	for range fewest {
		hire()
	}
	working.Go(func() error {
		r.crew(workCtx, hire)
		return nil
	})
	group.Go(func() error {
		defer close(found)
		return working.Wait()
	})
	group.Go(func() error { return r.collect(ctx, found) })
	if err := group.Wait(); err != nil {
		return Result{}, err
	}
	r.result.Leaves = r.Leaves
	return r.result, nil
}

// running is a transfer that runs.
type running struct {
	Transfer
	placer  disk.Placer  // the destination, if it is one
	encoder disk.Encoder // likewise
	unit    int64        // in which content is told from zeros, or from the base
	result  Result
	ended   chan struct{} // closed when all blocks are given out
}

// crew hires one more worker after the other, as long as that speeds things up.
func (t *running) crew(ctx context.Context, hire func()) {
	tick := time.NewTicker(trial)
	defer tick.Stop()
	last, best := t.Meter.Read.Load(), 0.0
	limit := most
	if t.encoder != nil || t.Base != nil {
		limit = mostLarge
	}
	for n := fewest; n < limit; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		case <-t.ended:
			return
		}
		read := t.Meter.Read.Load()
		speed := float64(read - last)
		last = read
		if speed < best*gain {
			return
		}
		best = speed
		hire()
	}
}

// block is a piece of work: at most blockSize bytes from off on, of which the data extents have to be read. One without
// data may be of any length.
type block struct {
	number int64
	off, n int64
	data   []disk.Extent
	known  bool            // its leaves are those known
	before <-chan struct{} // closed when the block before has its place
	placed chan struct{}
}

// cut sends the blocks of the source in guest order. Every block but the last ends at the end of a leaf.
func (t *running) cut(ctx context.Context, from int64, out chan<- block) error {
	before := make(chan struct{})
	close(before)
	next := block{before: before, off: from}
	longest, only := int64(blockSize), t.Only
	if only != nil {
		longest = fingerprint.LeafSize
	}
	send := func() error {
		next.placed = make(chan struct{})
		if t.Only != nil {
			for len(only) > 0 && only[0].Offset+only[0].Length <= next.off {
				only = only[1:]
			}
			if next.known = len(only) == 0 || only[0].Offset >= next.off+next.n; next.known {
				next.data = nil
			}
		}
		select {
		case out <- next:
		case <-ctx.Done():
			return ctx.Err()
		}
		next = block{number: next.number + 1, off: next.off + next.n, before: next.placed}
		return nil
	}
	src := t.Source
	if t.Base != nil {
		src = either{t.Source, t.Base}
	}
	if t.Over {
		src = solid{t.Source}
	}
	err := disk.ExtentsFrom(ctx, src, from, func(e disk.Extent) error {
		for at := e.Off; at < e.End(); {
			limit := next.off + longest - next.off%longest
			if e.Kind != disk.Data && len(next.data) == 0 {
				// So far nothing to read: the block may grow as long as that goes on.
				end := e.End()
				if end < t.Source.Size() {
					whole := max(fingerprint.LeafSize, t.unit)
					end = end / whole * whole
				}
				if end > next.off {
					next.n = end - next.off
					at = end
					if err := send(); err != nil {
						return err
					}
					continue
				}
			}
			end := min(e.End(), limit)
			if e.Kind == disk.Data {
				next.data = append(next.data, disk.Extent{Off: at, Len: end - at})
			}
			at = end
			next.n = end - next.off
			if end == limit {
				if err := send(); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err == nil && next.n > 0 {
		err = send()
	}
	return err
}

// buffers are of workers that have ended. What is in one is never read before it is filled.
var buffers = sync.Pool{New: func() any { return new([blockSize]byte) }}

// work takes blocks in order; several run at once.
func (t *running) work(ctx context.Context, blocks <-chan block, out chan<- found) error {
	buffer := buffers.Get().(*[blockSize]byte)
	defer buffers.Put(buffer)
	w := worker{running: t, buffer: buffer[:]}
	if t.Base != nil {
		below := buffers.Get().(*[blockSize]byte)
		defer buffers.Put(below)
		w.below = below[:]
	}
	for b := range blocks {
		result, err := w.do(ctx, b)
		if err != nil {
			return err
		}
		select {
		case out <- result:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// solid is a disk all of which counts as data.
type solid struct{ disk.Reader }

func (s solid) Extent(off int64) (disk.Extent, error) {
	return disk.Extent{Off: off, Len: s.Size() - off, Kind: disk.Data}, nil
}

// either is a disk of which a range counts as data where the disk or its base has data.
type either struct {
	disk.Reader
	base disk.Reader
}

func (e either) Extent(off int64) (disk.Extent, error) {
	x, err := e.Reader.Extent(off)
	if err != nil {
		return x, err
	}
	below, err := disk.ExtentBelow(e.base, disk.Extent{Off: off, Len: x.Len, Kind: disk.Hole})
	if err != nil {
		return x, err
	}
	x.Len = below.Len
	if below.Kind == disk.Data {
		x.Kind = disk.Data
	}
	return x, nil
}
