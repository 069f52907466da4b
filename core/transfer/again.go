package transfer

import (
	"context"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// correct writes the leaves of a block that are not as they were known.
func (w *worker) correct(ctx context.Context, r *found) error {
	var content []disk.Extent
	first := r.off / fingerprint.LeafSize
	for i, d := range r.digests {
		off := r.off + int64(i)*fingerprint.LeafSize
		n := min(fingerprint.LeafSize, r.off+r.n-off)
		if d == w.Known.At(first+int64(i)) {
			continue
		}
		r.changed += n
		if fingerprint.IsZero(w.buffer[off-r.off:][:n]) {
			if err := w.Destination.Zero(off, n); err != nil {
				return &DestinationError{fmt.Errorf("writing zeros to the destination at offset %d: %w", off, err)}
			}
			continue
		}
		content = append(content, disk.Extent{Off: off, Len: n})
	}
	return w.put(ctx, r, content)
}

// emptied puts zeros where a run that holds nothing any more had something.
func (w *worker) emptied(r *found) error {
	first := r.off / fingerprint.LeafSize
	for i := range r.zeros {
		off := r.off + i*fingerprint.LeafSize
		n := min(fingerprint.LeafSize, r.off+r.n-off)
		if w.Known.At(first+i) == fingerprint.ZeroLeaf(int(n)) {
			continue
		}
		r.changed += n
		if err := w.Destination.Zero(off, n); err != nil {
			return &DestinationError{fmt.Errorf("writing zeros to the destination at offset %d: %w", off, err)}
		}
	}
	return nil
}
