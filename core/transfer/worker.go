package transfer

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// worker does one block after the other.
type worker struct {
	*running
	buffer  []byte // the content of the block
	below   []byte // what the base has there
	encoded []byte
}

func (w *worker) do(ctx context.Context, b block) (found, error) {
	result := found{block: b, zeros: (b.n + fingerprint.LeafSize - 1) / fingerprint.LeafSize}
	if b.known || len(b.data) == 0 && w.Known == nil {
		return result, w.turn(ctx, b, func() error { return nil })
	}
	if len(b.data) == 0 {
		return result, errors.Join(w.emptied(&result), w.turn(ctx, b, func() error { return nil }))
	}
	if err := w.read(ctx, &result); err != nil {
		return result, err
	}
	if w.Known != nil {
		result.hash(w.buffer[:b.n], w.Meter)
		return result, errors.Join(w.correct(ctx, &result), w.turn(ctx, b, func() error { return nil }))
	}
	start := time.Now()
	content, err := w.content(b)
	w.Meter.spend(Hashing, start)
	if err == nil {
		err = w.write(ctx, &result, content)
	}
	return result, err
}

// read fills the buffer with the block.
func (w *worker) read(ctx context.Context, r *found) error {
	if w.Wait != nil {
		var n int64
		for _, e := range r.data {
			n += e.Len
		}
		start := time.Now()
		if err := w.Wait(ctx, n); err != nil {
			return err
		}
		w.Meter.spend(Limited, start)
	}
	defer w.Meter.spend(Reading, time.Now())
	end := r.off
	for _, e := range r.data {
		clear(w.buffer[end-r.off : e.Off-r.off])
		end = e.End()
		p := w.buffer[e.Off-r.off : end-r.off]
		err := Retry(ctx, w.Meter, func() error { return w.readAt(p, e.Off) })
		if err != nil && w.PastDamage && (storage.Unreadable(err) || errors.Is(err, disk.ErrDamaged)) {
			err = w.isolate(ctx, r, p, e.Off)
		}
		if err != nil {
			return err
		}
		w.Meter.Read.Add(e.Len)
	}
	clear(w.buffer[end-r.off : r.n])
	return nil
}

func (w *worker) readAt(p []byte, off int64) error {
	if n, err := w.Source.ReadAt(p, off); n < len(p) || err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("reading %s at offset %d: %w", cmp.Or(w.Of, "the source"), off+int64(n), err)
	}
	return nil
}

// smallestRead is the length below which an unreadable range is not looked at more closely.
const smallestRead = 512

// isolate reads a range that cannot be read as a whole in ever smaller halves, and puts zeros in the place of what remains.
func (w *worker) isolate(ctx context.Context, r *found, p []byte, off int64) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	half := int64(smallestRead)
	for half*2 < int64(len(p)) {
		half *= 2
	}
	if int64(len(p)) <= smallestRead {
		half = int64(len(p))
	}
	for _, part := range [][]byte{p[:half], p[half:]} {
		if len(part) == 0 {
			continue
		}
		err := w.readAt(part, off)
		switch {
		case err == nil:
		case !storage.Unreadable(err) && !errors.Is(err, disk.ErrDamaged):
			return err
		case len(part) <= smallestRead:
			clear(part)
			r.damaged = Join(r.damaged, fingerprint.Range{Offset: off, Length: int64(len(part))})
		default:
			if err := w.isolate(ctx, r, part, off); err != nil {
				return err
			}
		}
		off += int64(len(part))
	}
	return nil
}

// pauses are made before something that failed is tried again.
var pauses = []time.Duration{100 * time.Millisecond, 400 * time.Millisecond, 1500 * time.Millisecond}

// Retry does what may fail only now, and again after growing pauses. It counts how often.
func Retry(ctx context.Context, m *Meter, do func() error) error {
	err := do()
	for _, pause := range pauses {
		if err == nil || !storage.Transient(err) {
			return err
		}
		timer := time.NewTimer(pause)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		}
		m.Retries.Add(1)
		err = do()
	}
	return err
}

// content finds what has to be written: what is not zeros, or not as in the base, in units that lie where a hole can be.
func (w *worker) content(b block) (content []disk.Extent, err error) {
	if w.Base != nil {
		if err := disk.ReadBelow(w.Base, w.below[:b.n], b.off); err != nil {
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
			if w.Base == nil && !w.Over && x.Kind == disk.Zero || w.Base != nil && bytes.Equal(p, w.below[x.Off-b.off:x.End()-b.off]) {
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

// write gives the content of a block to the destination, and takes its leaves while others have their turn.
func (w *worker) write(ctx context.Context, r *found, content []disk.Extent) error {
	if w.encoder != nil {
		return w.encode(ctx, r, content)
	}
	err := w.turn(ctx, r.block, func() error { return w.place(content) })
	if err != nil {
		return err
	}
	for _, e := range content {
		r.written = append(r.written, disk.Written{Extent: e})
	}
	r.hash(w.buffer[:r.n], w.Meter)
	if w.Destination == nil {
		return nil
	}
	return w.put(ctx, r, content)
}

// put writes extents of the buffer.
func (w *worker) put(ctx context.Context, r *found, content []disk.Extent) error {
	defer w.Meter.spend(Writing, time.Now())
	for _, e := range content {
		if e.Kind == disk.Zero {
			continue
		}
		p := w.buffer[e.Off-r.off : e.End()-r.off]
		err := Retry(ctx, w.Meter, func() error {
			_, err := w.Destination.WriteAt(p, e.Off)
			return err
		})
		if err != nil {
			return &DestinationError{fmt.Errorf("writing the destination at offset %d: %w", e.Off, err)}
		}
		w.Meter.Written.Add(e.Len)
	}
	return nil
}

// place gives content its place in the destination, and puts zeros where the base has something else. All of that happens
// in guest order, so that it can be done again in the same way.
func (w *worker) place(content []disk.Extent) error {
	for _, e := range content {
		var err error
		switch {
		case w.Destination != nil && e.Kind == disk.Zero:
			if err = w.Destination.Zero(e.Off, e.Len); err == nil && w.Over {
				w.Meter.Written.Add(e.Len)
			}
		case w.placer != nil && e.Kind == disk.Data:
			err = w.placer.Place(e.Off, e.Len)
		}
		if err != nil {
			return &DestinationError{fmt.Errorf("making room in the destination for offset %d: %w", e.Off, err)}
		}
	}
	return nil
}

// encode makes of each unit of the content what is to be stored, and appends it when it is this block's turn.
func (w *worker) encode(ctx context.Context, r *found, content []disk.Extent) error {
	start := time.Now()
	w.encoded = w.encoded[:0]
	unit := w.encoder.Unit()
	for _, e := range content {
		for at := e.Off; at < e.End(); at += unit {
			p := w.buffer[at-r.off : min(at+unit, e.End())-r.off]
			if fingerprint.IsZero(p) {
				continue // a run of content in units of the transfer, which may be longer
			}
			before := len(w.encoded)
			var err error
			if w.encoded, err = w.encoder.Encode(w.encoded, p); err != nil {
				return fmt.Errorf("encoding the disk at offset %d: %w", at, err)
			}
			r.written = append(r.written, disk.Written{Extent: disk.Extent{Off: at, Len: int64(len(p))}, Encoded: int64(len(w.encoded) - before)})
			w.Meter.Written.Add(int64(len(w.encoded) - before))
		}
	}
	w.Meter.spend(Encoding, start)
	r.hash(w.buffer[:r.n], w.Meter)
	return w.turn(ctx, r.block, func() error {
		defer w.Meter.spend(Writing, time.Now())
		rest := w.encoded
		for _, e := range r.written {
			if err := w.encoder.Append(rest[:e.Encoded], e.Off); err != nil {
				return &DestinationError{fmt.Errorf("writing the destination at offset %d: %w", e.Off, err)}
			}
			rest = rest[e.Encoded:]
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
func (r *found) hash(p []byte, m *Meter) {
	defer m.spend(Hashing, time.Now())
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
