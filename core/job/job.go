// Package job runs plans: it reads, writes into a staging folder, proves, gives the image its name, and says in a
// receipt what was done. Whatever happens, nothing half-made gets a final name and the source is only read.
package job

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
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// ErrNotProven is the error for a comparison that found a difference.
var ErrNotProven = errors.New("not proven")

// ErrBlocked is the error for a plan that a check blocks.
var ErrBlocked = errors.New("a check stands in the way")

// behind is how often what is written is synced to be read back, where nothing else asks for it.
const behind = 250 * time.Millisecond

// Task is a plan to be run.
type Task struct {
	// ID names the staging folder and is unlike that of any other task.
	ID   string
	Ends Ends
	Plan plan.Plan
	// Watch is called from one goroutine at a time. It may be nil.
	Watch func(Progress)
	// Records let the task go on after its process has ended. Without them it begins anew.
	Records Records
	// Wait, unless it is nil, returns when n more bytes may be read.
	Wait func(ctx context.Context, n int64) error
	// Every is the least time between two checkpoints.
	Every time.Duration
	// Hold is for how long what is replaced is kept.
	Hold time.Duration
	// Known, unless it is nil, finds out anew what Prepare was told: it is asked at the moment before something that cannot be taken back.
	Known func(ctx context.Context) (Known, error)
	// By says who runs it, for what is kept: "job 12".
	By string
}

// Run does what the plan says, from the beginning or from where an earlier time was. The receipt is complete unless the task was
// set aside; the error is what went wrong, if anything.
func (t Task) Run(ctx context.Context) (Receipt, error) {
	if t.Watch == nil {
		t.Watch = func(Progress) {}
	}
	if t.Records == nil {
		t.Records, t.Every = none{}, behind
	}
	w := t.work()
	w.receipt = Receipt{
		ID:      uuid.NewString(),
		Kind:    t.Plan.Request.Kind,
		Source:  Side{Side: plan.Side{Place: w.disk.Request.Source}},
		Against: w.disk.Request.Against,
		Steps:   []Done{},
		Started: time.Now(),
	}
	err := w.run(ctx)
	r := &w.receipt
	r.Finished = time.Now()
	r.Seconds = max(0, r.Finished.Sub(r.Started).Seconds()) // the clock may have been set back
	if err == nil {
		return *r, nil
	}
	if errors.Is(context.Cause(ctx), ErrSetAside) {
		return *r, errors.Join(context.Cause(ctx), w.keepSteps(ctx))
	}
	r.Outcome = Failed
	if ctx.Err() != nil {
		r.Outcome, err = Cancelled, context.Cause(ctx)
	}
	err = Explain(err)
	r.Reason = err.Error()
	return *r, err
}

// keepSteps keeps what steps took so far, for the receipt.
func (w *work) keepSteps(ctx context.Context) error {
	w.receipt.Steps = w.report.done
	if w.state.Step == "" {
		return nil
	}
	return w.keep(ctx, nil)
}

// work is a task that runs.
type work struct {
	Task
	disk    plan.Disk
	report  *reporter
	state   State
	receipt Receipt
	source  watched
	guard   *guard   // of it
	chain   []string // of its files, those that the disk itself stands on
	base    watched
	strip   *transfer.Strip
	real    disk.Reader     // the source as a disk, nil where nothing is read of it any more
	src     disk.Reader     // what is copied of it
	copied  transfer.Result // and what that gave
	// readBack are the leaves that were read back while the image was written.
	readBack *fingerprint.Leaves
	along    *along              // while it is being written; nil where nothing is read back meanwhile
	guest    *fingerprint.Leaves // of the disk, where its files were copied as they are
	earlier  *fingerprint.Tag    // that the source was compared with
	enough   bool                // nothing more is to be done
}

// work prepares to run a task.
func (t Task) work() *work {
	w := &work{Task: t, report: &reporter{steps: t.Plan.Steps, watch: t.Watch}}
	if len(t.Plan.Bodies) > 0 {
		w.disk = t.Plan.Bodies[0]
	}
	if u := w.disk.Undoes; u != nil {
		w.ID, w.Records = u.Task, none{} // each step looks at what is there already
	}
	return w
}

// run opens what the steps need, and goes through them.
func (w *work) run(ctx context.Context) error {
	for _, c := range w.Plan.Checks {
		if c.Severity == plan.Blocks {
			return fmt.Errorf("%w: %s", ErrBlocked, c.Message)
		}
	}
	if w.disk.Before == nil {
		return fmt.Errorf("%w: the plan says nothing of the disk: plan it again", plan.ErrRequest)
	}
	if w.disk.Undoes != nil {
		return w.back(ctx)
	}
	w.receipt.Source.Side = *w.disk.Before
	w.receipt.Doubts = slices.Clone(w.Plan.Doubts)
	known, err := w.recallState(ctx)
	if err == nil && !known {
		err = w.open(ctx)
	}
	defer w.close()
	if err != nil {
		return w.cleared(ctx, err)
	}
	w.report.done = w.receipt.Steps
	defer func() { w.receipt.Steps = w.report.done }()
	return w.cleared(ctx, w.forward(ctx))
}

// open opens the source, and takes up what an earlier time left.
func (w *work) open(ctx context.Context) (err error) {
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
	if errors.Is(err, ErrInUse) {
		err = &BlockedError{plan.SourceInUse(err)}
	}
	if err == nil {
		err = w.isAsPlanned()
	}
	if err != nil || w.disk.After == nil {
		return err
	}
	base, err := w.lookAtBase(ctx)
	if err != nil {
		return err
	}
	if err := w.takeUp(ctx, source, base); err != nil || !w.fills() {
		return err
	}
	if err := w.recheck(ctx, false); err != nil { // before hours are spent
		return err
	}
	if err := w.sized(); err != nil {
		return err
	}
	if w.src, err = w.carried().Open(ctx); err != nil {
		return err
	}
	w.strip = transfer.NewStrip(w.src.Size())
	w.report.strip = w.strip
	return nil
}

// carried is what the task carries.
func (w *work) carried() carry.Carrier {
	return carry.Of(w.disk, carry.Ends{Source: w.Ends.Source, Destination: w.Ends.Destination, Staging: w.staging()})
}

// fills tells whether something is copied.
func (w *work) fills() bool { return w.disk.After != nil && !w.disk.Renames }

// close closes what was only read.
func (w *work) close() {
	if w.guard != nil {
		w.guard.close()
	}
	for _, r := range []disk.Reader{w.real, w.src} {
		if r != nil {
			_ = r.Close()
		}
	}
}

// cleared clears up, unless the task is to go on later.
func (w *work) cleared(ctx context.Context, err error) error {
	if _, forgets := w.Records.(none); !forgets && err != nil &&
		(errors.Is(context.Cause(ctx), ErrSetAside) || CanWait(err) || errors.Is(err, ErrBlocked)) {
		return err
	}
	return errors.Join(err, w.clear())
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
	r := &w.receipt
	if now < before {
		w.remark(fmt.Sprintf("%s of room are won: it took %s, and takes %s", plan.Bytes(before-now), plan.Bytes(before), plan.Bytes(now)))
		return true, nil
	}
	r.Destination, r.Outcome, r.Compared = nil, Unproven, "nothing: the disk stays as it is"
	r.Reason = fmt.Sprintf("no room would be won: the disk takes %s, and would take %s", plan.Bytes(before), plan.Bytes(now))
	return false, nil
}
