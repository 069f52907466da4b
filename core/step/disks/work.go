// Package disks has the steps of a disk: it reads, writes into a staging folder, proves, gives the image its name. Whatever happens, nothing
// half-made gets a final name and the source is only read.
package disks

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bagaglio/core/carry"
	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// work is the work on one disk.
type work struct {
	step.Job
	disk   plan.Disk
	report *step.Reporter
	state  State
	proof  receipt.Receipt
	source watched
	guard  *guard   // of it
	chain  []string // of its files, those that the disk itself stands on
	base   watched
	strip  *transfer.Strip
	real   disk.Reader     // the source as a disk, nil where nothing is read of it any more
	src    disk.Reader     // what is copied of it
	copied transfer.Result // and what that gave
	// readBack are the leaves that were read back while the image was written.
	readBack *fingerprint.Leaves
	along    *along              // while it is being written; nil where nothing is read back meanwhile
	guest    *fingerprint.Leaves // of the disk, where its files were copied as they are
	earlier  *fingerprint.Tag    // that the source was compared with
	enough   bool                // nothing more is to be done
	unheeded storage.Folder      // the source's, which tells who uses it
	sent     *fingerprint.Tree   // what was read of a folder that is carried as a whole, where this process did that
	living   *living             // nil where what is written meanwhile is not caught up with
	drop     func() error        // removes the snapshot that the source is read from; nil where there is none
	froze    bool                // filesystems were frozen
	thaw     func() error        // lets filesystems go on that are frozen; nil where none are
}

// begin returns the work on a disk of a job.
func begin(j step.Job) (step.Work, error) {
	d, err := j.Plan.Body(j.Subject)
	if err == nil && d.Before == nil {
		err = fmt.Errorf("%w: the plan says nothing of the disk: plan it again", plan.ErrRequest)
	}
	if err != nil {
		return nil, err
	}
	w := &work{Job: j, disk: d, report: j.Reporter()}
	if u := d.Undoes; u != nil {
		w.ID = plan.TaskID(u.Task, d.ID)
	}
	w.proof = receipt.Receipt{
		ID:      uuid.NewString(),
		Kind:    j.Plan.Request.Kind,
		Source:  receipt.Side{Side: plan.Side{Place: d.Request.Source}},
		Against: d.Request.Against,
		Steps:   []receipt.Done{},
		Started: time.Now(),
	}
	return w, nil
}

// Open opens what the steps need, or finds that nothing is needed of the source any more.
func (w *work) Open(ctx context.Context) error {
	switch {
	case w.disk.Request.Kind == plan.Remove:
		return w.openRemoval()
	case w.disk.Undoes != nil:
		return w.openUndo(ctx)
	}
	w.proof.Source.Side = *w.disk.Before
	w.proof.Doubts = slices.Clone(w.disk.Doubted)
	if len(w.Plan.Bodies) == 1 {
		w.proof.Doubts = slices.Clone(w.Plan.Doubts)
	}
	known, err := w.recallState()
	if err == nil && !known {
		open := w.open
		if w.disk.IsFolder() {
			open = w.openTree
		}
		err = open(ctx)
	}
	w.report.Done = w.proof.Steps
	return err
}

// Receipt is what is proven so far.
func (w *work) Receipt() *receipt.Receipt {
	if w.report.Done != nil {
		w.proof.Steps = w.report.Done
	}
	return &w.proof
}

// IsEnough tells that nothing more is to be done.
func (w *work) IsEnough() bool { return w.enough }

// Keep keeps how far it is.
func (w *work) Keep(ctx context.Context) error {
	if w.Log.Begun == "" { // nothing of it is anywhere yet
		return nil
	}
	return w.keep(ctx, nil)
}

// open opens the source, and takes up what an earlier time left.
func (w *work) open(ctx context.Context) (err error) {
	if err := w.heedUse(ctx); err != nil {
		return err
	}
	if w.real, err = w.openSource(ctx, w.Ends.Source); err != nil {
		return err
	}
	w.source, w.chain = watched{w.Ends.Source, files(w.real)}, w.real.Describe().Chain
	for _, k := range w.disk.Family {
		w.source.files = append(w.source.files, k.Files...)
	}
	if w.fills() {
		w.guard = guardOf(w.source)
	}
	source, err := w.source.look()
	if errors.Is(err, step.ErrInUse) {
		err = &step.BlockedError{Check: plan.SourceInUse(err)}
	}
	if err == nil {
		err = w.isAsPlanned()
	}
	if err != nil || w.disk.After == nil {
		return err
	}
	if w.disk.Device != "" {
		return w.openDevice(ctx, source)
	}
	base, err := w.lookAtBase(ctx)
	if err != nil {
		return err
	}
	if err := w.takeUp(ctx, source, base); err != nil || !w.fills() {
		return err
	}
	w.heed()
	if err := w.recheck(ctx, false); err != nil { // before hours are spent
		return err
	}
	if err := w.sized(); err != nil {
		return err
	}
	if w.plans(plan.StepFit) && !w.state.Fitted || w.plans(plan.StepSalvage) && !w.state.Salvaged { // that step opens it
		return nil
	}
	return w.openCarried(ctx)
}

// openCarried opens what is copied.
func (w *work) openCarried(ctx context.Context) (err error) {
	if w.src, err = w.carried().Open(ctx); err != nil {
		return err
	}
	w.strip = transfer.NewStrip(w.src.Size())
	w.report.Strip = w.strip
	return nil
}

// carried is what the task carries.
func (w *work) carried() carry.Carrier {
	ends := carry.Ends{Source: w.Ends.Source, Destination: w.Ends.Destination, Staging: w.staging(), Changed: w.changed()}
	if w.disk.Request.Dying {
		ends.Failing = w.real
	}
	return carry.Of(w.disk, ends)
}

// fills tells whether something is copied.
func (w *work) fills() bool { return w.disk.After != nil && !w.disk.Renames }

// Close closes what was only read.
func (w *work) Close() {
	if w.guard != nil {
		w.guard.close()
	}
	if w.thaw != nil {
		_ = w.thaw() // what was read is of no use then
	}
	for _, r := range []disk.Reader{w.real, w.src} {
		if r != nil {
			_ = r.Close()
		}
	}
	if w.drop != nil {
		if err := w.drop(); err != nil {
			w.remark(fmt.Sprintf("a snapshot is left of the source: %v", err))
		}
	}
}

// checkAll checks all tables of a disk, however long that takes.
func checkAll(ctx context.Context, r disk.Reader) error {
	if c, ok := r.(disk.Checker); ok {
		return c.Check(ctx)
	}
	return nil
}

// wins tells whether the new image is to take the place of the old one: where that is asked for, only when it takes less room.
func (w *work) wins() (bool, error) {
	if !w.disk.Request.IfSmaller {
		return true, nil
	}
	var staged []string
	for _, name := range w.state.Files {
		if !carry.IsCompanion(name) {
			staged = append(staged, name)
		}
	}
	_, now, errNow := storage.Measure(storage.Sub(w.Ends.Destination, w.staging()), staged)
	_, before, errBefore := storage.Measure(w.Ends.Source, w.source.files[:len(w.source.files)-len(w.chain)])
	if err := errors.Join(errNow, errBefore); err != nil {
		return false, err
	}
	r := &w.proof
	if now < before {
		w.remark(fmt.Sprintf("%s of room are won: it took %s, and takes %s", plan.Bytes(before-now), plan.Bytes(before), plan.Bytes(now)))
		return true, nil
	}
	r.Destination, r.Outcome, r.Compared = nil, receipt.Unproven, "nothing: the disk stays as it is"
	r.Reason = fmt.Sprintf("no room would be won: the disk takes %s, and would take %s", plan.Bytes(before), plan.Bytes(now))
	return false, nil
}
