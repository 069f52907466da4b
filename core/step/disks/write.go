package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// mostPasses bounds how often a source that changes is read.
const mostPasses = 5

// write leaves the new image, synced, in the staging folder.
func (w *work) write(ctx context.Context, src *disk.Reader) (copied transfer.Result, err error) {
	if w.disk.Request.ClearHeld {
		if err := w.clearHeld(); err != nil {
			return copied, destination(err)
		}
	}
	target, err := w.target(ctx)
	if err != nil {
		return copied, err
	}
	if target.Base != nil {
		defer target.Base.Close()
	}
	for pass := 1; ; pass++ {
		var again bool
		if copied, again, err = w.writeOnce(ctx, src, target, pass); err != nil || !again {
			return copied, err
		}
		// What encodes cannot be given a block twice.
		w.remark("the source changed while it was copied, and was copied again from the beginning")
		if err := w.beginAnew(ctx, w.state.Source, w.state.Base); err != nil {
			return copied, err
		}
	}
}

// writeOnce writes the image, and corrects it when the source changed meanwhile; again tells that this was not possible.
func (w *work) writeOnce(
	ctx context.Context,
	src *disk.Reader,
	target disk.Target,
	pass int,
) (copied transfer.Result, again bool, err error) {
	complete, corrected := false, false // corrected: what was read back is not what it was any more
	dst, earlier, err := w.begin(ctx, target, (*src).Size())
	if err != nil {
		return copied, false, err
	}
	defer func() { err = errors.Join(err, dst.Close()) }()
	t := transfer.Transfer{Source: *src, Destination: dst, Base: target.Base, Leaves: earlier.Leaves}
	if c, ok := dst.(disk.Cloner); ok && earlier.Leaves == nil && !w.pastDamage() { // which would share what cannot be read
		switch err := c.Clone(*src); {
		case err == nil:
			t.Destination = nil // which has all of it: what is left is to read it
			if err := dst.Checkpoint(); err != nil {
				return copied, false, destination(err)
			}
			w.remark("nothing was copied: the new image shares its blocks with the source on the storage")
		case !errors.Is(err, errors.ErrUnsupported):
			return copied, false, destination(err)
		}
	}
	w.along = w.readAlong(ctx, dst, target)
	defer w.endAlong(ctx, &complete)
	copied, err = w.transfer(ctx, plan.StepFill, t)
	if err != nil {
		return copied, false, err
	}
	copied.Damaged = transfer.Join(earlier.Damaged, copied.Damaged...)
	if copied.Tail == nil {
		copied.Tail = earlier.Tail
	}
	if w.living != nil {
		corrected = true
		if copied, err = w.catchUp(ctx, w.living, *src, dst, copied); err != nil {
			return copied, false, err
		}
	}
	for ; w.living == nil; pass++ {
		same, err := w.unchanged(ctx, *src, copied)
		if err != nil {
			return copied, false, err
		}
		if same {
			break
		}
		if w.tears() && (!w.disk.Request.Recopy || pass >= mostPasses) {
			w.torn()
			break
		}
		if !w.disk.Request.Recopy || pass >= mostPasses {
			return copied, false, errChanged
		}
		if err := w.openAgain(ctx, src); err != nil {
			return copied, false, err
		}
		if _, ok := dst.(disk.Encoder); ok {
			return copied, true, nil
		}
		corrected = true
		if copied, err = w.transfer(ctx, plan.StepFill, transfer.Transfer{Source: *src, Destination: dst, Known: copied.Leaves}); err != nil {
			return copied, false, err
		}
		w.remark(fmt.Sprintf("the source changed while it was copied: %s were copied again", plan.Bytes(copied.Changed)))
	}
	if w.disk.Request.Dying {
		copied.Damaged = w.proof.Unreadable // what is read now is what was read then
	}
	w.proof.Unreadable = copied.Damaged
	if len(copied.Damaged) > 0 {
		w.proof.Damage = inspect.Hits(ctx, *src, copied.Damaged, true)
	}
	err = w.report.Run(plan.StepSecure, nil, nil, func() error {
		return destination(errors.Join(dst.Commit(ctx), w.syncFolders(w.staging())))
	})
	complete = err == nil && !corrected
	return copied, false, err
}

// endAlong takes over what was read back.
func (w *work) endAlong(ctx context.Context, complete *bool) {
	if w.along != nil {
		w.readBack = w.along.end(ctx, *complete)
		w.along = nil
	}
}

// destination marks an error as one of the destination.
func destination(err error) error {
	if err == nil {
		return nil
	}
	return &transfer.DestinationError{Err: err}
}

// openAgain opens the source as it is now.
func (w *work) openAgain(ctx context.Context, src *disk.Reader) error {
	now, err := w.source.look()
	if err == nil {
		err = w.sized()
	}
	if err != nil {
		return err
	}
	opened, err := w.carried().Open(ctx)
	if err != nil {
		return err
	}
	if opened.Size() != (*src).Size() {
		return errors.Join(errors.New("the source changed its virtual size while it was copied: start again"), opened.Close())
	}
	w.state.Source = now
	w.guard.renew(w.source)
	old := *src
	*src = opened
	return old.Close()
}

// transfer runs one as a step.
func (w *work) transfer(ctx context.Context, kind string, t transfer.Transfer) (result transfer.Result, err error) {
	var meter transfer.Meter
	meter.Strip = w.strip
	t.Meter, t.Wait, t.PastDamage = &meter, w.Wait, w.pastDamage()
	count := func(r *receipt.Receipt, m *transfer.Meter) {
		r.BytesRead += m.Read.Load()
		r.BytesWritten += m.Written.Load()
		r.Retries += m.Retries.Load()
	}
	if t.Known == nil {
		t.Keep, t.Every = w.keeper(ctx, &meter, count), w.Every
		if w.along != nil {
			t.Keep = w.along.tell(t.Keep)
		}
		if t.Keep != nil {
			t.Keep = w.watching(t.Keep)
		}
	}
	err = w.report.Run(kind, &meter, t.Leaves, func() error {
		result, err = t.Run(ctx)
		return err
	})
	count(&w.proof, &meter)
	return result, err
}

// begin creates the image, or takes up the one that an earlier time left.
func (w *work) begin(ctx context.Context, target disk.Target, size int64) (disk.Writer, transfer.Result, error) {
	if w.Log.IsAt(plan.StepFill) {
		target.Identifier, target.Created = w.state.Identifier, w.state.Created
		var earlier transfer.Result
		var recallErr error
		dst, err := w.carried().Resume(target, func(yield func(disk.Written, error) bool) {
			earlier, recallErr = w.recall(ctx, plan.StepFill, size, func(x disk.Written) bool { return yield(x, nil) })
			if recallErr != nil {
				yield(disk.Written{}, recallErr)
			}
		})
		if err == nil || !errors.Is(err, fs.ErrNotExist) {
			return dst, earlier, destination(err)
		}
		w.remark("it was begun anew since its files were gone from the staging folder")
		if err := w.beginAnew(ctx, w.state.Source, w.state.Base); err != nil {
			return nil, transfer.Result{}, err
		}
	}
	if w.Log.Begun != "" { // a step before this one was done: an earlier time may have been stopped while it created the image
		if err := Clear(w.Ends.Destination, w.ID); err != nil {
			return nil, transfer.Result{}, destination(err)
		}
	}
	dst, err := w.carried().Create(target)
	if err != nil {
		return nil, transfer.Result{}, destination(err)
	}
	w.state.Identifier, w.state.Created, w.state.Files = target.Identifier, target.Created, dst.Files()
	if err = CloseOurs(w.Ends.Destination); err == nil {
		err = w.begun(dst)
	}
	if err == nil {
		err = w.enter(ctx, plan.StepFill)
	}
	if err != nil {
		return nil, transfer.Result{}, errors.Join(err, dst.Close())
	}
	return dst, transfer.Result{}, nil
}

// begun returns when the files are on stable storage as they were created, with their names, for those that come at once: from then on
// the image may be taken up again.
func (w *work) begun(dst disk.Writer) error {
	if w.Log.Forgets() {
		return nil
	}
	if err := dst.Checkpoint(); err != nil {
		return destination(fmt.Errorf("syncing the destination: %w", err))
	}
	for at := w.staging(); ; at = path.Dir(at) {
		if err := w.Ends.Destination.Sync(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return destination(fmt.Errorf("syncing the folder %s: %w", at, err))
		}
		if at == "." {
			return nil
		}
	}
}

// target says what to make, and opens what it is to stand on.
func (w *work) target(ctx context.Context) (t disk.Target, err error) {
	r := w.disk.Request
	t = disk.Target{
		Folder: storage.Sub(
			w.Ends.Destination,
			w.staging(),
		),
		Name:       path.Base(r.Destination.Path),
		Size:       w.carried().Size(),
		Layout:     w.disk.After.Layout,
		Options:    r.Options,
		Identifier: uuid.New(),
		Created:    time.Now(),
	}
	if r.Seed != "" {
		t.Identifier, t.Created = uuid.NewSHA1(uuid.Nil, []byte("bagaglio "+r.Seed)), time.Time{}
	}
	if r.Base == "" {
		return t, nil
	}
	if t.BaseName, err = filepath.Rel(path.Dir(r.Destination.Path), path.Clean(r.Base)); err != nil {
		return t, fmt.Errorf("naming the base %s: %w", r.Base, err)
	}
	t.BaseName = storage.RawName(t.BaseName)
	t.Base, err = openBase(ctx, w.Ends.Destination, r)
	return t, err
}
