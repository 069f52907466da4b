package disks

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// freezer is a folder of disks whose filesystems can be frozen.
type freezer interface {
	Freeze(ctx context.Context, name string, longest time.Duration, tell string) (still storage.Folder, thaw func() error, err error)
}

// heedUse has a disk that is in use read as the request says: with its filesystems frozen from now on, or as it is. One that is caught up with is frozen later.
func (w *work) heedUse(ctx context.Context) error {
	r := w.disk.Request
	if r.InUse == "" {
		return nil
	}
	w.unheeded = w.Ends.Source
	if r.InUse == plan.InUseSnapshot {
		return w.snap()
	}
	if r.InUse == plan.InUseAsItIs || w.keepsUp() {
		if h, ok := storage.As[interface{ Heedless() storage.Folder }](w.Ends.Source); ok {
			w.Ends.Source = h.Heedless()
		}
		return nil
	}
	f, ok := storage.As[freezer](w.Ends.Source)
	if !ok {
		return fmt.Errorf("freezing what is on %s: %w", r.Source, errors.ErrUnsupported)
	}
	still, thaw, err := f.Freeze(ctx, r.Source.Path, r.Freezes(), r.Tell)
	if err != nil {
		return err
	}
	w.Ends.Source, w.thaw, w.froze = still, thaw, thaw != nil
	return nil
}

// snapshotter is a folder that can show a disk as it is at one moment.
type snapshotter interface {
	// Snapshot returns a folder in which the disk is that. What it takes is called as, and removed by drop, or by the next call.
	Snapshot(name, as string) (still storage.Folder, drop func() error, err error)
}

// snap has the source read as it is now.
func (w *work) snap() error {
	s, ok := storage.As[snapshotter](w.Ends.Source)
	if !ok {
		return fmt.Errorf("taking a snapshot of %s: %w", w.disk.Request.Source, errors.ErrUnsupported)
	}
	still, drop, err := s.Snapshot(w.disk.Request.Source.Path, path.Join(SnapshotFolder, w.ID+".raw"))
	if err != nil {
		return err
	}
	w.Ends.Source, w.drop = still, drop
	return nil
}

// goOn lets filesystems go on that are frozen. It fails where somebody could have written before all was read.
func (w *work) goOn() error {
	if w.thaw == nil {
		return nil
	}
	thaw := w.thaw
	w.thaw = nil
	if err := thaw(); err != nil {
		return err
	}
	w.remark("its filesystems were frozen while it was read")
	return nil
}

// isLetGo tells whether the source is one that changes again since it was read.
func (w *work) isLetGo() bool { return w.state.LetGo || w.froze && w.thaw == nil }

// keepsUp tells whether the source is read while somebody writes to it, and what was written is read again.
func (w *work) keepsUp() bool { return w.disk.Request.InUse == plan.InUseKeepUp }

// tears tells whether the source is read as it is, whoever writes to it.
func (w *work) tears() bool { return w.disk.Request.InUse == plan.InUseAsItIs }

// torn notes that somebody wrote to what was read as it is.
func (w *work) torn() {
	w.doubt("somebody wrote to the disk while it was read: what was written meanwhile is torn")
	w.state.Torn = true
}
