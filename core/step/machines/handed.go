package machines

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
)

// handedOver says what fingerprints the disks had that were handed over to another host: of what was written to since they stood still by reading it where it was written, which
// is what was compared with the new place; of all else by the leaves that were proven there. A disk without a tag says none.
func (w *work) handedOver(ctx context.Context) error {
	now, err := w.looks()
	if err != nil {
		return err
	}
	if !maps.Equal(now, w.state.Last) {
		w.evidence("somebody has changed the old disks since they were copied: what was handed over has no fingerprint of its own")
		return nil
	}
	for _, d := range w.m.Live {
		sum, read, of, err := w.fingerprintOf(ctx, d)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("taking the fingerprint of what was handed over of the disk %s: %w", d.Slot, err)
		}
		w.evidence(
			"the disk %s was handed over with the fingerprint %s: %d of %d leaves as read when it was off, the others as proven before",
			d.Slot,
			sum,
			read,
			of,
		)
	}
	return nil
}

// looks is what the files look like that have the content of the old disks: their lengths, times and identities.
func (w *work) looks() (map[string]string, error) {
	var all []plan.Place
	for _, d := range w.m.Live {
		all = append(append(all, d.Was), w.covers(d)...)
	}
	out, _, err := w.lookAt(all)
	return out, err
}

// lookAt is what files look like, and whether that is sure to be different once something was written to one.
func (w *work) lookAt(all []plan.Place) (out map[string]string, sure bool, err error) {
	out, sure = map[string]string{}, true
	for _, at := range all {
		info, err := w.Ends.Pools[at.Pool].Stat(at.Path)
		if err != nil {
			return nil, false, err
		}
		out[at.String()] = fmt.Sprint(info.Size, info.Modified.UnixNano(), info.Changed.UnixNano(), info.ID)
		sure = sure && !info.Changed.IsZero()
	}
	return out, sure, nil
}

// fingerprintOf is the fingerprint of a disk as it was handed over, and how many of its leaves were read for that.
func (w *work) fingerprintOf(ctx context.Context, d plan.LiveDisk) (sum fingerprint.Fingerprint, read, of int64, err error) {
	tag, err := inspect.ReadTag(w.Ends.Pools[d.Now.Pool], fingerprint.TagName(d.Now.Path), d.Size)
	if err != nil {
		return sum, 0, 0, err
	}
	changed := map[int64]bool{}
	for _, cover := range w.covers(d) {
		if err := w.changes(ctx, cover, changed); err != nil {
			return sum, 0, 0, err
		}
	}
	last, _, _ := d.Pass(w.state.Passes)
	src, err := disk.Open(ctx, w.Ends.Pools[last.Pool], last.Path, "qcow2")
	if err != nil {
		return sum, 0, 0, err
	}
	defer src.Close()
	leaves, buffer := fingerprint.NewLeaves(d.Size), make([]byte, fingerprint.LeafSize)
	for n := range leaves.Total() {
		if err := ctx.Err(); err != nil {
			return sum, 0, 0, err
		}
		if !changed[n] {
			leaves.Append(tag.Leaves.At(n))
			continue
		}
		off := n * fingerprint.LeafSize
		leaf := buffer[:min(fingerprint.LeafSize, d.Size-off)]
		if err := disk.ReadFull(src, leaf, off); err != nil {
			return sum, 0, 0, err
		}
		leaves.Append(fingerprint.Leaf(leaf))
		read++
	}
	sum, err = leaves.Sum()
	return sum, read, leaves.Total(), err
}

// changes adds the leaves in which an image has something of its own.
func (w *work) changes(ctx context.Context, at plan.Place, changed map[int64]bool) error {
	r, err := disk.Open(ctx, w.Ends.Pools[at.Pool], at.Path, "qcow2")
	if err != nil {
		return err
	}
	defer r.Close()
	own, ok := r.(disk.Locator)
	if !ok {
		return fmt.Errorf("what %s has of its own: %w", at, errors.ErrUnsupported)
	}
	for off := int64(0); off < r.Size(); {
		run, err := own.Locate(off)
		if err != nil {
			return err
		}
		if run.Kind != disk.Hole {
			for n := off / fingerprint.LeafSize; n <= (run.End()-1)/fingerprint.LeafSize; n++ {
				changed[n] = true
			}
		}
		off = run.End()
	}
	return nil
}
