// Package transfer moves the content of a disk from a reader to a writer, and takes its leaves on the way, so that the
// source is read once. Memory is bounded whatever the size of the disk.
package transfer

import (
	"context"
	"sync/atomic"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"golang.org/x/sync/errgroup"
)

const (
	// blockSize is how much is read and written at once: the size that was fastest (docs/performance.md), and a multiple of
	// a leaf.
	blockSize = 4 * fingerprint.LeafSize
	// workers is how many blocks are under way at once.
	workers = 4
	// zeroUnit is the length in which zeros inside of data are looked for; what is all zeros is not written.
	zeroUnit = 64 << 10
)

// Meter counts while a transfer runs. Its fields may be read at any time. Bytes of real data, not of virtual size.
type Meter struct {
	Read    atomic.Int64
	Written atomic.Int64
}

// Result is what a transfer found.
type Result struct {
	Leaves *fingerprint.Leaves
	// Tail is the content of the last leaf when it is short, for [fingerprint.Leaves.Extended].
	Tail []byte
}

// Run reads all of src and, unless dst is nil, writes it to dst, which has to be new. Holes and known zeros are neither
// read nor written. With a base, on which dst stands, only what differs from it is written. It does not commit dst.
func Run(ctx context.Context, src disk.Reader, dst disk.Writer, base disk.Reader, meter *Meter) (Result, error) {
	t := &transfer{src: src, dst: dst, base: base, meter: meter, leaves: fingerprint.NewLeaves(src.Size()), unit: zeroUnit}
	t.placer, _ = dst.(disk.Placer)
	if t.encoder, _ = dst.(disk.Encoder); t.encoder != nil {
		t.unit = max(zeroUnit, t.encoder.Unit())
	}
	group, ctx := errgroup.WithContext(ctx)
	blocks := make(chan block)
	taken := make(chan taken, workers)
	group.Go(func() error {
		defer close(blocks)
		return t.cut(ctx, blocks)
	})
	working, workCtx := errgroup.WithContext(ctx)
	for range workers {
		working.Go(func() error { return t.work(workCtx, blocks, taken) })
	}
	group.Go(func() error {
		defer close(taken)
		return working.Wait()
	})
	group.Go(func() error { return t.collect(taken) })
	if err := group.Wait(); err != nil {
		return Result{}, err
	}
	return Result{Leaves: t.leaves, Tail: t.tail}, nil
}

type transfer struct {
	src     disk.Reader
	dst     disk.Writer
	base    disk.Reader  // nil without one
	placer  disk.Placer  // dst, if it is one
	encoder disk.Encoder // likewise
	unit    int64        // in which content is told from zeros, or from the base
	meter   *Meter
	leaves  *fingerprint.Leaves
	tail    []byte
}

// block is a piece of work: at most blockSize bytes from off on, of which the data extents have to be read. One without
// data may be of any length.
type block struct {
	number int64
	off, n int64
	data   []disk.Extent
	before <-chan struct{} // closed when the block before has its place
	placed chan struct{}
}

// taken are the leaves of a block.
type taken struct {
	number  int64
	digests []fingerprint.Digest
	zeros   int64 // leaves, when there are no digests
	tail    []byte
}

// cut sends the blocks of the source in guest order. Every block but the last ends at the end of a leaf.
func (t *transfer) cut(ctx context.Context, out chan<- block) error {
	before := make(chan struct{})
	close(before)
	next := block{before: before}
	send := func() error {
		next.placed = make(chan struct{})
		select {
		case out <- next:
		case <-ctx.Done():
			return ctx.Err()
		}
		next = block{number: next.number + 1, off: next.off + next.n, before: next.placed}
		return nil
	}
	src := t.src
	if t.base != nil {
		src = either{t.src, t.base}
	}
	err := disk.Extents(ctx, src, func(e disk.Extent) error {
		for at := e.Off; at < e.End(); {
			limit := next.off + blockSize - next.off%blockSize
			if e.Kind != disk.Data && len(next.data) == 0 {
				// So far nothing to read: the block may grow as long as that goes on.
				end := e.End()
				if end < t.src.Size() {
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

// work takes blocks in order; several run at once.
func (t *transfer) work(ctx context.Context, blocks <-chan block, out chan<- taken) error {
	w := worker{transfer: t, buffer: make([]byte, blockSize)}
	if t.base != nil {
		w.below = make([]byte, blockSize)
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

// collect puts the leaves into order.
func (t *transfer) collect(in <-chan taken) error {
	waiting := map[int64]taken{} // those that came before their turn
	var next int64
	for r := range in {
		waiting[r.number] = r
		for {
			r, ok := waiting[next]
			if !ok {
				break
			}
			delete(waiting, next)
			next++
			if r.digests == nil {
				t.leaves.AppendZeros(r.zeros)
			} else {
				t.leaves.Append(r.digests...)
			}
			if r.tail != nil {
				t.tail = r.tail
			}
		}
	}
	return nil
}
