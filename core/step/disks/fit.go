package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"bagaglio/core/disk"
	"bagaglio/core/fit"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"
)

// changed is the folder of this computer with the filesystems that are made to fit, or with what was read of a disk that fails: that is the same each time
// that the disk is captured.
func (w *work) changed() string {
	if w.disk.Request.Dying {
		return filepath.Join(w.Ends.Scratch, "dying-"+w.dyingID())
	}
	return filepath.Join(w.Ends.Scratch, w.ID)
}

// fit changes filesystems on copies, so that they fit to the size that the disk gets. What was written of the image with what an earlier time made
// is of no use then: the system's tools do not make the same bytes twice.
func (w *work) fit(ctx context.Context) error {
	if w.state.Files != nil {
		if err := w.beginAnew(ctx, w.state.Source, w.state.Base); err != nil {
			return err
		}
	}
	if err := w.enter(ctx, plan.StepFit); err != nil {
		return err
	}
	var meter transfer.Meter
	err := w.report.Run(plan.StepFit, &meter, nil, func() error {
		return fit.Change(ctx, w.real, *w.disk.Fit, w.changed(), func(n int64) { meter.Read.Add(n) })
	})
	w.proof.BytesRead += meter.Read.Load()
	if err != nil {
		return fmt.Errorf("making it fit: %w", err)
	}
	now, err := w.source.look()
	if err != nil {
		return err
	}
	if now != w.state.Source && !touched(now, w.state.Source) {
		return errChanged
	}
	w.state.Fitted = true
	return w.openCarried(ctx)
}

// compareFitted compares every file of the filesystems that were changed, with what was made, read back from storage.
func (w *work) compareFitted(ctx context.Context, made disk.Reader) error {
	if w.disk.Fit == nil {
		return nil
	}
	l, err := fit.Compare(ctx, w.real, made, *w.disk.Fit)
	if err != nil {
		return fmt.Errorf("%w: %w", step.ErrNotProven, err)
	}
	if w.proof.Fit = &l; l.Scratch() > 0 {
		w.proof.Compared += "; and every file of the filesystems that were changed, with what it was before"
	}
	return nil
}

// isFitted tells whether what an earlier time made to fit is there still.
func (w *work) isFitted() (bool, error) {
	if !w.state.Fitted {
		return true, nil
	}
	_, err := os.Stat(w.changed())
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// fitting computes how the disk fits to the size that it is to have, rounded to what the layout can hold. err is one of looking.
func fitting(r plan.Request, src disk.Reader, target plan.Target) (l *fit.Layout, unfit, err error) {
	c, err := inspect.Inside(src)
	if err != nil {
		return nil, nil, err
	}
	c.Fill(src)
	left := map[int]bool{}
	for _, s := range inspect.Shares(src) {
		if s.Left && s.Volume == "" {
			left[s.Partition] = true
		}
	}
	wish := r.Wish()
	round := func(n int64) int64 { return target.Layout.RoundUp(n, r.Options, r.RoundTo) }
	wish.Size = round(wish.Size)
	made, unfit := fit.Compute(src.Size(), c, left, wish, fit.Able)
	if unfit == nil && round(made.Size) != made.Size { // as small as possible, in this layout
		wish.Size = round(made.Size)
		made, unfit = fit.Compute(src.Size(), c, left, wish, fit.Able)
	}
	return &made, unfit, nil
}

// lookAtFit adds how the disk fits to another size, and what room there is for what is made on the way.
func lookAtFit(ends step.Ends, r plan.Request, src disk.Reader, f *plan.Facts) (err error) {
	if !r.Refits() && !r.Dying {
		return nil
	}
	if r.Refits() {
		if err := fitTo(r, src, f); err != nil || f.Source.Unfit != nil {
			return err
		}
	}
	if err := os.MkdirAll(ends.Scratch, 0o700); err != nil {
		return fmt.Errorf("making the folder for what is made on the way: %w", err)
	}
	folder, err := local.Open(ends.Scratch)
	if err != nil {
		return err
	}
	space, err := folder.Space()
	f.Scratch = space.Free
	return err
}

// fitTo adds how the disk fits to another size.
func fitTo(r plan.Request, src disk.Reader, f *plan.Facts) (err error) {
	if f.Source.Fit, f.Source.Unfit, err = fitting(r, src, f.Target); err != nil {
		return err
	}
	if f.Source.Unfit != nil {
		f.Source.Fit = nil
	}
	return nil
}
