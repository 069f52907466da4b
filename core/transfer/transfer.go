// Package transfer moves the content of a disk from a reader to a writer, and takes its leaves on the way, so that the
// source is read once. Memory is bounded whatever the size of the disk.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
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
// read nor written. It does not commit dst.
func Run(ctx context.Context, src disk.Reader, dst disk.Writer, meter *Meter) (Result, error) {
	t := &transfer{src: src, dst: dst, meter: meter, leaves: fingerprint.NewLeaves(src.Size())}
	t.placer, _ = dst.(disk.Placer)
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
	src    disk.Reader
	dst    disk.Writer
	placer disk.Placer // dst, if it is one
	meter  *Meter
	leaves *fingerprint.Leaves
	tail   []byte
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
	err := disk.Extents(ctx, t.src, func(e disk.Extent) error {
		for at := e.Off; at < e.End(); {
			limit := next.off + blockSize - next.off%blockSize
			if e.Kind != disk.Data && len(next.data) == 0 {
				// So far nothing to read: the block may grow as long as that goes on.
				end := e.End()
				if end < t.src.Size() {
					end = end / fingerprint.LeafSize * fingerprint.LeafSize
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
	buffer := make([]byte, blockSize)
	for b := range blocks {
		result, err := t.do(ctx, b, buffer)
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

func (t *transfer) do(ctx context.Context, b block, buffer []byte) (taken, error) {
	result := taken{number: b.number, zeros: (b.n + fingerprint.LeafSize - 1) / fingerprint.LeafSize}
	if len(b.data) == 0 {
		return result, t.place(ctx, b, nil)
	}
	buffer = buffer[:b.n]
	var content []disk.Extent // what is not zeros
	end := b.off
	for _, e := range b.data {
		clear(buffer[end-b.off : e.Off-b.off])
		end = e.End()
		p := buffer[e.Off-b.off : end-b.off]
		if n, err := t.src.ReadAt(p, e.Off); n < len(p) || err != nil && !errors.Is(err, io.EOF) {
			return result, fmt.Errorf("reading the source at offset %d: %w", e.Off+int64(n), err)
		}
		t.meter.Read.Add(e.Len)
		content = appendContent(content, p, e.Off)
	}
	clear(buffer[end-b.off:])
	if err := t.place(ctx, b, content); err != nil {
		return result, err
	}
	result.digests = make([]fingerprint.Digest, 0, result.zeros)
	for at := int64(0); at < b.n; at += fingerprint.LeafSize {
		leaf := buffer[at:min(at+fingerprint.LeafSize, b.n)]
		result.digests = append(result.digests, fingerprint.Leaf(leaf))
		if len(leaf) < fingerprint.LeafSize {
			result.tail = append([]byte(nil), leaf...)
		}
	}
	if t.dst != nil {
		for _, e := range content {
			if _, err := t.dst.WriteAt(buffer[e.Off-b.off:e.End()-b.off], e.Off); err != nil {
				return result, fmt.Errorf("writing the destination at offset %d: %w", e.Off, err)
			}
			t.meter.Written.Add(e.Len)
		}
	}
	return result, nil
}

// appendContent adds the parts of p, which lies at off, that are not zeros, in units that lie where a hole can be.
func appendContent(content []disk.Extent, p []byte, off int64) []disk.Extent {
	for len(p) > 0 {
		n := min(int64(len(p)), zeroUnit-off%zeroUnit)
		if !fingerprint.IsZero(p[:n]) {
			if last := len(content) - 1; last >= 0 && content[last].End() == off {
				content[last].Len += n
			} else {
				content = append(content, disk.Extent{Off: off, Len: n})
			}
		}
		p, off = p[n:], off+n
	}
	return content
}

// place waits for the turn of b and gives its content its place in the destination.
func (t *transfer) place(ctx context.Context, b block, content []disk.Extent) error {
	select {
	case <-b.before:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer close(b.placed)
	if t.placer == nil {
		return nil
	}
	for _, e := range content {
		if err := t.placer.Place(e.Off, e.Len); err != nil {
			return fmt.Errorf("making room in the destination for offset %d: %w", e.Off, err)
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
