package transfer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// worker does one block after the other.
type worker struct {
	*transfer
	buffer  []byte // the content of the block
	below   []byte // what the base has there
	encoded []byte
}

func (w *worker) do(ctx context.Context, b block) (taken, error) {
	result := taken{number: b.number, zeros: (b.n + fingerprint.LeafSize - 1) / fingerprint.LeafSize}
	if len(b.data) == 0 {
		return result, w.turn(ctx, b, func() error { return nil })
	}
	if err := w.read(b); err != nil {
		return result, err
	}
	content, err := w.content(b)
	if err == nil {
		err = w.write(ctx, b, content, func() { result.hash(w.buffer[:b.n]) })
	}
	return result, err
}

// read fills the buffer with the block.
func (w *worker) read(b block) error {
	end := b.off
	for _, e := range b.data {
		clear(w.buffer[end-b.off : e.Off-b.off])
		end = e.End()
		p := w.buffer[e.Off-b.off : end-b.off]
		if n, err := w.src.ReadAt(p, e.Off); n < len(p) || err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading the source at offset %d: %w", e.Off+int64(n), err)
		}
		w.meter.Read.Add(e.Len)
	}
	clear(w.buffer[end-b.off : b.n])
	return nil
}

// content finds what has to be written: what is not zeros, or not as in the base, in units that lie where a hole can be.
func (w *worker) content(b block) (content []disk.Extent, err error) {
	if w.base != nil {
		if err := disk.ReadBelow(w.base, w.below[:b.n], b.off); err != nil {
			return nil, fmt.Errorf("reading what the destination stands on: %w", err)
		}
	}
	for _, e := range b.data {
		for at := e.Off / w.unit * w.unit; at < e.End(); at += w.unit {
			x := disk.Extent{Off: max(at, e.Off)}
			x.Len = min(at+w.unit, e.End()) - x.Off
			if w.encoder != nil { // which takes whole units
				x = disk.Extent{Off: at, Len: min(at+w.unit, b.off+b.n) - at}
			}
			p := w.buffer[x.Off-b.off : x.End()-b.off]
			if fingerprint.IsZero(p) {
				x.Kind = disk.Zero
			}
			if w.base == nil && x.Kind == disk.Zero || w.base != nil && bytes.Equal(p, w.below[x.Off-b.off:x.End()-b.off]) {
				continue
			}
			switch last := len(content) - 1; {
			case last >= 0 && content[last].End() > x.Off: // two extents with data lie in one unit
			case last >= 0 && content[last].End() == x.Off && content[last].Kind == x.Kind:
				content[last].Len += x.Len
			default:
				content = append(content, x)
			}
		}
	}
	return content, nil
}

// write gives the content of a block to the destination, and calls hash while others have their turn.
func (w *worker) write(ctx context.Context, b block, content []disk.Extent, hash func()) error {
	if w.encoder != nil {
		return w.encode(ctx, b, content, hash)
	}
	err := w.turn(ctx, b, func() error { return w.place(content) })
	if err != nil {
		return err
	}
	hash()
	if w.dst == nil {
		return nil
	}
	for _, e := range content {
		if e.Kind == disk.Zero { // and the base has something else
			err = w.dst.Zero(e.Off, e.Len)
		} else {
			_, err = w.dst.WriteAt(w.buffer[e.Off-b.off:e.End()-b.off], e.Off)
		}
		if err != nil {
			return fmt.Errorf("writing the destination at offset %d: %w", e.Off, err)
		}
		w.meter.Written.Add(e.Len)
	}
	return nil
}

// place gives content its place in the destination. Zeros need none, mostly.
func (w *worker) place(content []disk.Extent) error {
	for _, e := range content {
		if w.placer == nil || e.Kind == disk.Zero {
			continue
		}
		if err := w.placer.Place(e.Off, e.Len); err != nil {
			return fmt.Errorf("making room in the destination for offset %d: %w", e.Off, err)
		}
	}
	return nil
}

// encode makes of each unit of the content what is to be stored, and appends it when it is this block's turn.
func (w *worker) encode(ctx context.Context, b block, content []disk.Extent, hash func()) error {
	w.encoded = w.encoded[:0]
	unit := w.encoder.Unit()
	var offsets, ends []int64
	for _, e := range content {
		for at := e.Off; at < e.End(); at += unit {
			p := w.buffer[at-b.off : min(at+unit, e.End())-b.off]
			if fingerprint.IsZero(p) {
				continue // a run of content in units of the transfer, which may be longer
			}
			var err error
			if w.encoded, err = w.encoder.Encode(w.encoded, p); err != nil {
				return fmt.Errorf("encoding the disk at offset %d: %w", at, err)
			}
			offsets, ends = append(offsets, at), append(ends, int64(len(w.encoded)))
			w.meter.Written.Add(int64(len(p)))
		}
	}
	hash()
	return w.turn(ctx, b, func() error {
		start := int64(0)
		for i, at := range offsets {
			if err := w.encoder.Append(w.encoded[start:ends[i]], at); err != nil {
				return fmt.Errorf("writing the destination at offset %d: %w", at, err)
			}
			start = ends[i]
		}
		return nil
	})
}

// turn waits until the block before had its turn, calls do, and hands on.
func (w *worker) turn(ctx context.Context, b block, do func() error) error {
	select {
	case <-b.before:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer close(b.placed)
	return do()
}

// hash takes the leaves of a block.
func (r *taken) hash(p []byte) {
	r.digests = make([]fingerprint.Digest, 0, r.zeros)
	for len(p) > 0 {
		leaf := p[:min(len(p), fingerprint.LeafSize)]
		r.digests = append(r.digests, fingerprint.Leaf(leaf))
		if len(leaf) < fingerprint.LeafSize {
			r.tail = append([]byte(nil), leaf...)
		}
		p = p[len(leaf):]
	}
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
