package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// A guest is fitted to its new place on the copy, once that is proven: files inside of it are changed in a scratch file over it, the result is made a second image beside the first
// one, and all of that is read back. Until then the proven one stays as it is.

// second is the folder of the second image in the staging folder.
const second = "fitted"

// adapt makes the second image, proves it, and puts it in the place of the first.
func (w *work) adapt(ctx context.Context) error {
	if err := w.enter(ctx, plan.StepAdapt); err != nil {
		return err
	}
	var meter transfer.Meter
	var leaves *fingerprint.Leaves
	err := w.report.Run(plan.StepAdapt, &meter, nil, func() (err error) {
		if !w.state.Adapted {
			if leaves, err = w.makeSecond(ctx, &meter); err != nil {
				return err
			}
			w.state.Adapted = true
			if err := w.keep(ctx, nil); err != nil {
				return err
			}
		}
		if err := w.takeSecond(); err != nil {
			return err
		}
		if leaves == nil { // an earlier time made it
			leaves, err = w.readSecond(ctx, path.Join(w.staging(), path.Base(w.disk.After.Place.Path)), &meter)
		}
		return err
	})
	w.proof.BytesRead += meter.Read.Load()
	w.proof.BytesWritten += meter.Written.Load()
	if err != nil {
		return err
	}
	return w.makeTag(ctx, transfer.Result{Leaves: leaves})
}

// makeSecond makes the second image, and returns the leaves that were read back from it.
func (w *work) makeSecond(ctx context.Context, meter *transfer.Meter) (*fingerprint.Leaves, error) {
	first, err := w.carried().Made(ctx)
	if err != nil {
		return nil, destination(fmt.Errorf("opening the proven copy: %w", err))
	}
	defer first.Close()
	dir := filepath.Join(w.Ends.Scratch, w.ID)
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o700)); err != nil {
		return nil, fmt.Errorf("making the folder for what is changed: %w", err)
	}
	defer os.RemoveAll(dir)
	over, err := adapt.NewOverlay(first, dir)
	if err != nil {
		return nil, err
	}
	defer over.Close()
	found, err := w.findAgain(ctx, first)
	if err != nil {
		return nil, err
	}
	if err := adapt.Apply(ctx, over, found, dir); err != nil {
		return nil, fmt.Errorf("fitting the guest to its new place: %w", err)
	}
	proven, err := w.provenLeaves(ctx, first.Size())
	if err != nil {
		return nil, err
	}
	expected, err := over.Leaves(proven)
	if err != nil {
		return nil, err
	}
	if err := w.writeSecond(ctx, over.Over(first), meter); err != nil {
		return nil, err
	}
	got, err := w.readSecond(ctx, path.Join(w.staging(), second, path.Base(w.disk.After.Place.Path)), meter)
	if err != nil {
		return nil, err
	}
	return got, w.sameAsExpected(first, expected, got, found)
}

// findAgain finds on the copy what is to be changed: it is what was planned, or less. Contents of files may be others by now, where somebody wrote to the source since.
func (w *work) findAgain(ctx context.Context, first disk.Reader) (adapt.Changes, error) {
	found, err := adapt.Find(ctx, first, *w.disk.Request.NewPlace)
	if err != nil {
		return found, fmt.Errorf("looking what the guest needs in its new place: %w", err)
	}
	for _, c := range found.Files {
		planned := func(p adapt.Change) bool {
			return p.Partition == c.Partition && p.Logical == c.Logical && p.Path == c.Path && p.How == c.How
		}
		if !slices.ContainsFunc(w.disk.Adapt.Files, planned) {
			return found, &step.BlockedError{Check: plan.Check{
				Name: "fit", Severity: plan.Blocks,
				Message: fmt.Sprintf("%s would have to be changed too, which it had not when this was planned: plan it again.", c.Path),
			}}
		}
	}
	if !found.Same(*w.disk.Adapt) {
		w.remark("what was changed inside of the copy is not word for word what was planned: files of the source were changed since")
	}
	return found, nil
}

// provenLeaves are those of the proven copy.
func (w *work) provenLeaves(ctx context.Context, size int64) (*fingerprint.Leaves, error) {
	copied := w.copied
	if copied.Leaves == nil { // an earlier time wrote it
		var err error
		if copied, err = w.recall(ctx, plan.StepFill, w.src.Size(), nil); err != nil {
			return nil, err
		}
	}
	if size != w.src.Size() {
		return copied.Leaves.Extended(size, copied.Tail), nil
	}
	return copied.Leaves, nil
}

// writeSecond writes it as the first one was.
func (w *work) writeSecond(ctx context.Context, from disk.Reader, meter *transfer.Meter) error {
	folder := path.Join(w.staging(), second)
	if err := storage.RemoveAll(w.Ends.Destination, folder); err != nil { // of an earlier time
		return destination(err)
	}
	target, err := w.target(ctx)
	if err != nil {
		return err
	}
	target.Folder = storage.Sub(w.Ends.Destination, folder)
	target.Identifier, target.Created = w.state.Identifier, w.state.Created
	made, err := w.carried().Create(target)
	if err != nil {
		return destination(fmt.Errorf("making the image with what was changed: %w", err))
	}
	_, err = transfer.Transfer{Source: from, Destination: made, Meter: meter, Wait: w.Wait}.Run(ctx)
	if err == nil {
		err = made.Commit(ctx)
	}
	if err = errors.Join(err, made.Close()); err != nil {
		return destination(fmt.Errorf("writing the image with what was changed: %w", err))
	}
	return destination(w.syncFolders(folder))
}

// readSecond reads it back from storage, and checks its tables.
func (w *work) readSecond(ctx context.Context, name string, meter *transfer.Meter) (*fingerprint.Leaves, error) {
	o := disk.Origin{Folder: storage.Fresh(w.Ends.Destination), Name: name, Home: w.carried().Dir()}
	made, err := o.Open(ctx, w.disk.After.Format)
	if err != nil {
		return nil, destination(fmt.Errorf("opening the image with what was changed: %w", err))
	}
	defer made.Close()
	facts, err := look(ctx, w.Ends.Destination, made, checkAll)
	if err = errors.Join(err, facts.Problem); err != nil {
		return nil, destination(err)
	}
	w.proof.Destination.AllocatedSize, w.proof.Destination.FileSize = facts.Allocated, facts.FileSize
	back, err := transfer.Transfer{Source: made, Of: "the image with what was changed", Meter: meter, Wait: w.Wait}.Run(ctx)
	return back.Leaves, destination(err)
}

// sameAsExpected compares what was read back with what was proven before and what was changed, and notes both.
func (w *work) sameAsExpected(first disk.Reader, expected, got *fingerprint.Leaves, found adapt.Changes) error {
	want, err := expected.Sum()
	if err != nil {
		return err
	}
	sum, err := got.Sum()
	if err != nil {
		return err
	}
	r := &w.proof
	before := r.Destination.Fingerprint
	if sum != want {
		r.Differences = fingerprint.Difference(expected, got, 20)
		r.Outcome = receipt.Failed
		return fmt.Errorf("%w: the image with what was changed is not what was written", step.ErrNotProven)
	}
	r.Adapted = &receipt.Adapted{Before: before, After: sum.String(), Files: found.Files}
	r.Destination.Read(sum, receipt.FromContent)
	r.BytesCompared += first.Size()
	r.Compared += fmt.Sprintf(
		"; then %d file(s) were changed on a second copy, of which all was read back from storage: what was not changed has the digests of before, and each other file its content",
		len(found.Files),
	)
	return nil
}

// takeSecond puts the second image in the place of the first. It can be done again.
func (w *work) takeSecond() error {
	folder := path.Join(w.staging(), second)
	for _, name := range w.carried().Own(w.state.Files) {
		from, to := path.Join(folder, name), path.Join(w.staging(), name)
		if _, err := w.Ends.Destination.Stat(from); errors.Is(err, fs.ErrNotExist) {
			continue // an earlier time did it
		}
		if err := w.Ends.Destination.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return destination(err)
		}
		if err := w.Ends.Destination.Rename(from, to); err != nil {
			return destination(fmt.Errorf("taking the image with what was changed: %w", err))
		}
	}
	if err := storage.RemoveAll(w.Ends.Destination, folder); err != nil {
		return destination(err)
	}
	return destination(w.syncFolders(w.staging()))
}
