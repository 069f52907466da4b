// Package job runs plans: it reads, writes into a staging folder, proves, gives the image its name, and says in a
// receipt what was done. Whatever happens, nothing half-made gets a final name and the source is only read.
package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

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
	w := &work{Task: t, report: &reporter{steps: t.Plan.Steps, watch: t.Watch}}
	request := t.Plan.Request
	w.receipt = Receipt{
		ID: uuid.NewString(), Kind: request.Kind, Source: Side{Side: plan.Side{Place: request.Source}}, Against: request.Against, Steps: []Done{}, Started: time.Now(),
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
	if w.state.Stage == "" {
		return nil
	}
	return w.keep(ctx, nil)
}

type work struct {
	Task
	report  *reporter
	state   State
	receipt Receipt
	source  watched
	guard   *guard   // of it
	chain   []string // of its files, those that the disk itself stands on
	base    watched
	strip   *transfer.Strip
	// readBack are the leaves that were read back while the image was written.
	readBack *fingerprint.Leaves
	along    *along              // while it is being written; nil where nothing is read back meanwhile
	guest    *fingerprint.Leaves // of the disk, where its files were copied as they are
	earlier  *fingerprint.Tag    // that the source was compared with
}

func (w *work) run(ctx context.Context) error {
	for _, c := range w.Plan.Checks {
		if c.Severity == plan.Blocks {
			return fmt.Errorf("%w: %s", ErrBlocked, c.Message)
		}
	}
	r := w.Plan.Request
	w.receipt.Source.Side = *w.Plan.Before
	w.receipt.Doubts = slices.Clone(w.Plan.Doubts)
	if placing, err := w.wasPlacing(ctx); err != nil || placing {
		return errors.Join(err, w.clear())
	}
	real, err := w.openSource(ctx, w.Ends.Source)
	if err != nil {
		return err
	}
	defer func() { _ = real.Close() }() // it was only read
	w.source, w.chain = watched{w.Ends.Source, files(real)}, real.Describe().Chain
	for _, k := range w.Plan.Family {
		w.source.files = append(w.source.files, k.Files...)
	}
	if r.Kind != plan.Prove && !w.Plan.Renames {
		w.guard = guardOf(w.source)
		defer w.guard.close()
	}
	source, err := w.source.look()
	if errors.Is(err, ErrInUse) {
		err = &BlockedError{plan.SourceInUse(err)}
	}
	if err != nil {
		return w.cleared(ctx, err)
	}
	if err := w.isAsPlanned(); err != nil {
		return err
	}
	if r.Kind == plan.Prove {
		if err := w.lookAt(ctx, real); err != nil {
			return err
		}
		return w.prove(ctx)
	}
	base, err := w.lookAtBase(ctx)
	if err != nil {
		return err
	}
	if err := w.takeUp(ctx, source, base); err != nil {
		return err
	}
	w.report.done = w.receipt.Steps
	defer func() { w.receipt.Steps = w.report.done }()
	if !w.Plan.Renames {
		if err := w.recheck(ctx, false); err != nil { // before hours are spent
			return w.cleared(ctx, err)
		}
	}
	if w.Plan.Renames {
		if err := w.lookAt(ctx, real); err != nil {
			return err
		}
		return w.cleared(ctx, w.finish(ctx))
	}
	if err := w.sized(); err != nil {
		return err
	}
	src, err := w.content(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	return w.cleared(ctx, w.convert(ctx, real, &src))
}

// cleared clears up, unless the task is to go on later.
func (w *work) cleared(ctx context.Context, err error) error {
	if _, forgets := w.Records.(none); !forgets && err != nil && (errors.Is(context.Cause(ctx), ErrSetAside) || CanWait(err) || errors.Is(err, ErrBlocked)) {
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

func (w *work) lookAt(ctx context.Context, src disk.Reader) error {
	err := w.report.run(plan.StepLook, nil, nil, func() error {
		facts, err := look(ctx, w.Ends.Source, src, checkAll)
		return errors.Join(err, facts.Problem)
	})
	w.receipt.Steps = w.report.done
	return err
}

// convert goes through the stages that are left.
func (w *work) convert(ctx context.Context, real disk.Reader, src *disk.Reader) error {
	w.strip = transfer.NewStrip((*src).Size())
	w.report.strip = w.strip
	var copied transfer.Result
	var err error
	if w.state.Stage == "" || w.state.Stage == plan.StepWrite {
		if err := w.lookAt(ctx, real); err != nil {
			return err
		}
		if copied, err = w.write(ctx, src); err != nil {
			return err
		}
		if err := w.keepAlong(ctx, w.readBack); err != nil {
			return err
		}
	} else if copied, err = w.recall(ctx, plan.StepWrite, (*src).Size(), nil); err != nil {
		return err
	}
	if w.state.Stage == plan.StepProve {
		compare := w.compare
		if w.copies() {
			compare = w.compareFiles
		}
		if err := compare(ctx, copied); err != nil {
			return err
		}
		if err := w.closingLook(ctx, *src, copied); err != nil {
			return err
		}
		if err := w.makeTag(ctx, w.guestResult(copied)); err != nil {
			return err
		}
		if better, err := w.wins(); err != nil || !better {
			return err
		}
		if err := w.stage(ctx); err != nil {
			return err
		}
	}
	return w.finish(ctx)
}

// wins tells whether the new image is to take the place of the old one: where that is asked for, only when it takes less room.
func (w *work) wins() (bool, error) {
	if !w.Plan.Request.IfSmaller {
		return true, nil
	}
	var staged []string
	for _, name := range w.state.Files {
		if !isCompanion(name) {
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

// isPlacing tells whether some files have their names already: then there is no way back by stopping.
func (w *work) isPlacing() bool {
	if w.Plan.Renames {
		return w.state.Staged != nil
	}
	return slices.ContainsFunc(w.state.Files, func(name string) bool { return w.isPlaced(w.dir(), name) })
}

// finish gives the files their names, and hands over and releases the source of a disk that moves.
func (w *work) finish(ctx context.Context) error {
	if w.state.Stage != plan.StepHandOver && w.state.Stage != plan.StepRelease {
		place := w.place
		if w.Plan.Renames {
			place = w.moveFiles
		}
		if !w.isPlacing() {
			if err := w.recheck(ctx, false); err != nil {
				return err
			}
		}
		if err := w.report.run(plan.StepPlace, nil, nil, func() error { return place(ctx) }); err != nil {
			return err
		}
		if space, err := w.Ends.Destination.Space(); err == nil && space.Removable { // everything was synced on the way
			w.remark("everything is on stable storage: it is safe to unplug the drive")
		}
	}
	if w.Plan.Request.Release && !w.Plan.Renames && w.state.Stage != plan.StepHandOver && w.state.Stage != plan.StepRelease {
		if err := w.recheck(ctx, true); err != nil {
			return err
		}
	}
	if len(w.Plan.Handovers) > 0 && w.state.Stage != plan.StepRelease {
		if err := w.report.run(plan.StepHandOver, nil, nil, func() error { return w.handOver(context.WithoutCancel(ctx)) }); err != nil {
			return err
		}
	}
	if !w.Plan.Request.Release || w.Plan.Renames {
		return nil
	}
	return w.report.run(plan.StepRelease, nil, nil, func() error { return w.release(context.WithoutCancel(ctx)) })
}
