// Package job runs plans: it drives their steps over a journal, forward, set aside or back, and says in a receipt what was done. What the
// steps do is in core/step.
package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/google/uuid"
)

// behind is how often what is written is synced to be read back, where nothing else asks for it.
const behind = 250 * time.Millisecond

// Task is a plan to be run.
type Task struct {
	// ID names staging folders and is unlike that of any other task.
	ID string
	// Ends are the folders that the places of each subject lie in.
	Ends map[string]step.Ends
	Plan plan.Plan
	// Watch is called from one goroutine at a time. It may be nil.
	Watch func(step.Progress)
	// Records let the task go on after its process has ended. Without them it begins anew.
	Records step.Records
	// Wait, Every, Hold, By, Asks and Answer are those of step.Job.
	Wait   func(ctx context.Context, n int64) error
	Every  time.Duration
	Hold   time.Duration
	By     string
	Asks   bool
	Answer step.Answer
	// Known, unless it is nil, finds out anew what the plan of a subject was made with.
	Known func(ctx context.Context, subject string) (step.Known, error)
}

// Run does what the plan says, from the beginning or from where an earlier time was. The receipt is complete unless the task was
// set aside, waits, or asks; the error is what went wrong, if anything.
func (t Task) Run(ctx context.Context) (receipt.Receipt, error) {
	started := time.Now()
	r, err := t.runner(ctx)
	if err == nil {
		err = r.run(ctx)
	}
	out := r.receipt(started)
	out.Finished = time.Now()
	out.Seconds = max(0, out.Finished.Sub(out.Started).Seconds()) // the clock may have been set back
	if err == nil || isSetAside(ctx) {
		return out, err
	}
	out.Outcome = receipt.Failed
	if ctx.Err() != nil {
		out.Outcome, err = receipt.Cancelled, context.Cause(ctx)
	}
	err = step.Explain(err)
	out.Reason = err.Error()
	return out, err
}

func isSetAside(ctx context.Context) bool { return errors.Is(context.Cause(ctx), step.ErrSetAside) }

// runner is a task that runs.
type runner struct {
	Task
	journal  *step.Journal
	subjects []*subject
	strips   []step.DiskStrip
}

// mostStrips bounds of how many disks a report has the strip.
const mostStrips = 16

// report passes on how far the work on a subject is, with the strips of all disks so far where the plan has several.
func (r *runner) report(subject string, p step.Progress) {
	d, err := r.Plan.Body(subject)
	if err == nil && p.Strip != "" && len(r.Plan.Bodies) > 1 {
		now := step.DiskStrip{Disk: d.Request.Source, Strip: p.Strip}
		i := slices.IndexFunc(r.strips, func(s step.DiskStrip) bool { return s.Disk == now.Disk })
		if i >= 0 {
			r.strips[i] = now
		} else {
			r.strips = append(r.strips, now)
			r.strips = r.strips[max(0, len(r.strips)-mostStrips):]
		}
	}
	p.Disks = slices.Clone(r.strips)
	r.Watch(p)
}

// subject is one that the plan works on.
type subject struct {
	step.Work
	id     string
	log    *step.Log
	opened bool
}

// runner begins the work on all subjects, which touches nothing yet.
func (t Task) runner(ctx context.Context) (*runner, error) {
	if t.Watch == nil {
		t.Watch = func(step.Progress) {}
	}
	if t.Records == nil {
		t.Every = behind
	}
	r := &runner{Task: t, journal: &step.Journal{}}
	if t.Records != nil {
		old, err := t.Records.Load(ctx)
		if err != nil {
			return r, fmt.Errorf("looking for what an earlier time left: %w", err)
		}
		if old != nil {
			r.journal = old
		}
	}
	for _, s := range t.Plan.Steps {
		if err := r.begin(s); err != nil {
			return r, err
		}
	}
	return r, nil
}

// begin begins the work on the subject of a step, unless that is begun.
func (r *runner) begin(s plan.Step) error {
	id := step.Subject(s.ID)
	if r.subject(id) != nil {
		return nil
	}
	_, family, err := step.Lookup(s.Kind)
	if err != nil {
		return err
	}
	j := step.Job{
		ID:      plan.TaskID(r.ID, id),
		Subject: id,
		Ends:    r.Ends[id],
		Plan:    r.Plan,
		Log:     r.journal.Open(id, r.Records),
		Watch:   func(p step.Progress) { r.report(id, p) },
		Wait:    r.Wait,
		Every:   r.Every,
		Hold:    r.Hold,
		By:      r.By,
		Asks:    r.Asks && r.Records != nil,
		Answer:  r.Answer,
	}
	if r.Known != nil {
		j.Known = func(ctx context.Context) (step.Known, error) { return r.Known(ctx, id) }
	}
	w, err := family.Begin(j)
	if err == nil {
		r.subjects = append(r.subjects, &subject{Work: w, id: id, log: j.Log})
	}
	return err
}

func (r *runner) subject(id string) *subject {
	for _, s := range r.subjects {
		if s.id == id {
			return s
		}
	}
	return nil
}

// run goes through the steps, and clears up unless the task is to go on later.
func (r *runner) run(ctx context.Context) error {
	for _, c := range r.Plan.Checks {
		if c.Severity == plan.Blocks {
			return fmt.Errorf("%w: %s", step.ErrBlocked, c.Message)
		}
	}
	if len(r.subjects) == 0 {
		return fmt.Errorf("%w: the plan has no steps: plan it again", plan.ErrRequest)
	}
	defer func() {
		for _, s := range r.subjects {
			s.Close()
		}
	}()
	err := errors.New(r.journal.Back)
	if r.journal.Back == "" {
		err = r.forward(ctx)
	}
	if isSetAside(ctx) {
		err = errors.Join(context.Cause(ctx), r.keep(ctx))
	}
	cancelled := ctx.Err() != nil && !isSetAside(ctx) // whatever the error is that came of that: what was done is taken back
	if err != nil && !cancelled && r.goesOn(ctx, err) {
		return err
	}
	if err != nil {
		if backErr := r.back(ctx, err); backErr != nil {
			err = errors.Join(err, backErr)
			if r.goesOn(ctx, backErr) {
				return err
			}
		}
	}
	return errors.Join(err, r.clear())
}

// goesOn tells whether a task that an error has stopped is to go on later.
func (r *runner) goesOn(ctx context.Context, err error) bool {
	_, asks := step.Asked(err)
	return r.Records != nil && (isSetAside(ctx) || asks || step.CanWait(err) || errors.Is(err, step.ErrBlocked))
}

// forward does the steps that are left.
func (r *runner) forward(ctx context.Context) error {
	for _, s := range r.Plan.Steps {
		k, _, err := step.Lookup(s.Kind)
		if err != nil {
			return err
		}
		w := r.subject(step.Subject(s.ID))
		if !w.opened {
			w.opened = true
			if err := w.Open(ctx); err != nil {
				return err
			}
		}
		if k.With != "" || w.log.IsDone(s.Kind) || w.IsEnough() {
			continue
		}
		do := k.Do
		if s.Back {
			do = k.Undo
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		if do == nil {
			return fmt.Errorf("taking back a step of the kind %q: %w", s.Kind, errors.ErrUnsupported)
		}
		err = do(ctx, w.Work)
		if errors.Is(err, step.ErrEnough) {
			return nil
		}
		if err != nil {
			return err
		}
		if w.IsEnough() {
			continue
		}
		w.log.Finish(s.Kind)
		if err := w.Keep(ctx); err != nil {
			return err
		}
	}
	return nil
}

// back takes back what has its name already, where the disks of a plan go together and not all of them could. Behind a step that lets only
// forward, nothing is taken back.
func (r *runner) back(ctx context.Context, why error) error {
	if !r.Plan.Together || slices.ContainsFunc(r.Plan.Steps, func(s plan.Step) bool { return s.Forward && r.began(s) }) {
		return nil
	}
	ctx = context.WithoutCancel(ctx)
	r.journal.Back = why.Error()
	if err := r.keep(ctx); err != nil {
		return err
	}
	for _, s := range slices.Backward(r.Plan.Steps) {
		k, _, err := step.Lookup(s.Kind)
		if err != nil {
			return err
		}
		if k.Undo == nil || !r.began(s) {
			continue
		}
		if err := k.Undo(ctx, r.subject(step.Subject(s.ID)).Work); err != nil {
			return fmt.Errorf("taking back what was done (%s): %w", s.Title, err)
		}
	}
	return nil
}

// began tells whether a step is done, or may be in part.
func (r *runner) began(s plan.Step) bool {
	log := r.subject(step.Subject(s.ID)).log
	return log.IsDone(s.Kind) || log.IsAt(s.Kind)
}

// keep keeps how far the work is that was opened. Of other work it is known already.
func (r *runner) keep(ctx context.Context) (err error) {
	for _, s := range r.subjects {
		if s.opened {
			err = errors.Join(err, s.Keep(context.WithoutCancel(ctx)))
		}
	}
	return err
}

func (r *runner) clear() (err error) {
	for _, s := range r.subjects {
		err = errors.Join(err, s.Clear())
	}
	return err
}

// receipt is that of the only subject, or puts those of all together.
func (r *runner) receipt(started time.Time) receipt.Receipt {
	if len(r.subjects) == 1 {
		return *r.subjects[0].Receipt()
	}
	out := receipt.Receipt{
		ID:      uuid.NewString(),
		Kind:    r.Plan.Request.Kind,
		Source:  receipt.Side{Side: plan.Side{Place: r.Plan.Carried().Source}},
		Against: r.Plan.Carried().Against,
		Steps:   []receipt.Done{},
		Started: started,
	}
	for _, s := range r.subjects {
		out.Add(*s.Receipt())
	}
	return out
}

// CallOff takes back what an interrupted task, which does not go on, did to what was there before it. The receipt has what is to be known of that.
func (t Task) CallOff(ctx context.Context) (receipt.Receipt, error) {
	started := time.Now()
	r, err := t.runner(ctx)
	if err == nil {
		err = r.back(ctx, context.Canceled)
	}
	for _, s := range r.subjects {
		if err == nil {
			err = s.CallOff(ctx)
		}
	}
	return r.receipt(started), err
}

// Placed tells whether an earlier time has given all that is made its name: then it is there, complete, whatever else was left to do.
func (t Task) Placed(ctx context.Context) (bool, error) {
	r, err := t.runner(ctx)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(r.subjects, func(s *subject) bool { return !s.Placed() }), nil
}
