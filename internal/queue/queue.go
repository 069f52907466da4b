package queue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/seal"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
	"bagaglio/internal/planner"
	"bagaglio/internal/points"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
	"golang.org/x/time/rate"
)

var (
	errCancelled = errors.New("cancelled on request")
	errPaused    = fmt.Errorf("paused on request (%w)", step.ErrSetAside)
	errHours     = fmt.Errorf("its hours are over (%w)", step.ErrSetAside)
	errFull      = errors.New("waits for a job")
	errStopping  = fmt.Errorf("the service stops (%w)", step.ErrSetAside)
)

// run is a job that is running.
type run struct {
	claim    store.Claim
	stop     context.CancelCauseFunc
	progress *step.Progress
	scopes   []scope
	meter    *rate.Limiter
	hours    string
	group    int64  // that it is of, 0 for none
	porter   string // that does it, empty for the service
	// cancelled tells that it was cancelled, maybe when it was being set aside already.
	cancelled bool
}

// recover sets right what was going on when an earlier run of the service ended: what ran goes on.
func (q *Queue) recover(ctx context.Context) error {
	running, err := q.records.JobsIn(ctx, store.Running)
	if err != nil {
		return err
	}
	for _, j := range running {
		q.log.Warn("found an interrupted job, which goes on", "job", j.ID)
		if err := q.records.SetAside(ctx, j.Claim(), store.Running, store.Waiting, "", false); err != nil {
			return err
		}
		q.records.NoteJob(ctx, j.ID, "found interrupted", "it goes on")
	}
	uncleared, err := q.records.UnclearedJobs(ctx)
	if err != nil {
		return err
	}
	for _, j := range uncleared {
		if err := q.clear(ctx, j); err != nil {
			// The pool may be on a drive that is not there now: the next start tries again.
			q.log.Warn("clearing up after a job", "job", j.ID, "error", err)
		}
	}
	return nil
}

// unrun is the receipt of a job that could not write its own.
func unrun(j store.Job, outcome receipt.Outcome, reason error) receipt.Receipt {
	now := time.Now()
	r := receipt.Receipt{
		ID:       uuid.NewString(),
		Kind:     j.Plan.Request.Kind,
		Outcome:  outcome,
		Reason:   reason.Error(),
		Source:   receipt.Side{Side: plan.Side{Place: j.Plan.Carried().Source}},
		Against:  j.Plan.Request.Against,
		Steps:    []receipt.Done{},
		Started:  now,
		Finished: now,
	}
	if j.Started != nil {
		r.Started = *j.Started
		r.Seconds = now.Sub(r.Started).Seconds()
	}
	return r
}

// end notes how a job ended, and seals its receipt behind the one before.
func (q *Queue) end(ctx context.Context, c store.Claim, from, to store.State, done receipt.Receipt) error {
	last, err := q.records.LastSeal(ctx)
	if err != nil {
		return err
	}
	head, err := q.chain.add(c.Job, last.Number, func(sealer store.Sealer) error {
		return q.records.EndJob(ctx, c, store.Ending{
			From: from, To: to, Receipt: done, Seal: sealer,
			Note: func(number int64, sealed string) store.Event {
				return records.OfJob(c.Job, "ended", fmt.Sprintf("%s; receipt %s", done.Outcome, Head{number, seal.Digest(sealed)}))
			},
		}, time.Now())
	})
	if err != nil {
		return err
	}
	if err := q.records.Patiently(q.chain.keep); err != nil {
		return err
	}
	if to == store.Done {
		q.leave(ctx, done, head)
	}
	return nil
}

// leave leaves the receipt of a job in the pools that it put something into.
func (q *Queue) leave(ctx context.Context, done receipt.Receipt, head Head) {
	pools := map[string]bool{}
	for _, r := range append([]receipt.Receipt{done}, done.Parts...) {
		if r.Destination == nil || r.Destination.Place.Pool == "" {
			continue
		}
		if _, devices := plan.DevicesHost(r.Destination.Place.Pool); !devices {
			pools[r.Destination.Place.Pool] = true
		}
	}
	seals, err := q.records.Seals(ctx, head.Number-1, 1)
	if err != nil || len(seals) == 0 {
		return // it is in the records, and what lies in pools is for the day on which they are lost
	}
	for pool := range pools {
		q.places.Leave(ctx, pool, q.key.Public(), head.Number, seals[0].Seal)
	}
}

// clear removes what a job left in the staging folder.
func (q *Queue) clear(ctx context.Context, j store.Job) error {
	for _, d := range j.Plan.Bodies {
		to := d.Request.Destination
		if to == nil {
			continue
		}
		folder, err := q.places.Folder(ctx, to.Pool)
		if errors.Is(err, store.ErrNotFound) { // a pool that was removed is no business of ours
			continue
		}
		if err == nil {
			err = disks.Clear(folder, plan.TaskID(q.records.TaskID(j.ID), d.ID))
			if storage.Lost(err) { // a connection that was cut is made again
				err = disks.Clear(folder, plan.TaskID(q.records.TaskID(j.ID), d.ID))
			}
		}
		if err != nil {
			return err
		}
	}
	return q.records.ClearJob(ctx, j.ID)
}

// run runs a job to its end, or until it is set aside, and notes it.
func (q *Queue) run(ctx context.Context, j store.Job, r *run) {
	q.log.Info("job started", "job", j.ID, "kind", j.Plan.Request.Kind, "source", j.Plan.Carried().Source.String())
	done, err := q.work(ctx, j, r)
	cause := context.Cause(ctx)
	// Whoever stopped the job did not mean the notes about it.
	ctx = context.WithoutCancel(ctx)
	var problem error
	var blocked *step.BlockedError
	question, asks := step.Asked(err)
	state := store.Done
	switch {
	case err == nil:
	case errors.Is(err, store.ErrOutdated): // what it did up to its last mark stays, and counts
		state, problem = store.Waiting, q.setAside(ctx, j.Claim(), store.Waiting, "", false)
	case errors.Is(cause, errPaused):
		state, problem = store.Paused, q.setAside(ctx, j.Claim(), store.Paused, "paused on request", false)
	case errors.Is(cause, step.ErrSetAside):
		state, problem = store.Waiting, q.setAside(ctx, j.Claim(), store.Waiting, "", false)
	case errors.Is(cause, errCancelled):
		state, done.Outcome, done.Reason = store.Cancelled, receipt.Cancelled, cause.Error()
	case asks:
		state, problem = store.Asking, q.records.Patiently(func() error { return q.records.Ask(ctx, j.Claim(), question) })
	case j.Plan.Carried().IsKept() && errors.As(err, &blocked):
		state, problem = store.Paused, q.stopBy(ctx, j, blocked)
	case j.Plan.Carried().IsKept() && step.CanWait(err):
		state, problem = store.Paused, q.setAside(ctx, j.Claim(), store.Paused, step.Explain(err).Error()+"; it goes on by itself then", true)
		q.inTrouble(j, err)
	default:
		state, done.Reason = store.Failed, err.Error()
	}
	q.mu.Lock()
	last := r.progress
	q.mu.Unlock()
	problem = errors.Join(problem, q.records.Patiently(func() error { return q.records.EndSteps(ctx, j.ID, done.Steps, last, time.Now()) }))
	if state == store.Done { // before anybody is told so
		problem = errors.Join(problem, q.records.Patiently(func() error { return q.knowResult(ctx, j) }))
	}
	if state.Ended() {
		problem = errors.Join(
			problem,
			q.records.Patiently(func() error { return q.end(ctx, j.Claim(), store.Running, state, done) }),
			q.records.Patiently(func() error { return q.clear(ctx, j) }),
		)
	} else {
		q.records.NoteJob(ctx, j.ID, "set aside", cmp.Or(question.Text, string(state)))
	}
	if state == store.Failed && j.Group > 0 { // before another one of it has its turn
		problem = errors.Join(problem, q.records.Patiently(func() error { return q.mindGroup(ctx, j.Group) }))
	}
	q.mu.Lock()
	delete(q.running, j.ID)
	q.count(r.scopes, -1)
	if state.Ended() {
		delete(q.troubles, j.ID)
	}
	cancelled := r.cancelled && !state.Ended()
	q.mu.Unlock()
	if cancelled {
		problem = errors.Join(problem, q.cancel(ctx, strconv.FormatInt(j.ID, 10)))
	}
	if problem != nil {
		q.log.Error("noting the end of a job", "job", j.ID, "error", problem)
	}
	touched := j.Plan.Pools()
	for _, d := range j.Plan.Bodies {
		touched = append(touched, planner.DefinitionPools(d)...)
	}
	q.places.Touch(touched...)
	level, what, outcome := slog.LevelInfo, "job ended", done.Outcome
	switch {
	case state == store.Failed:
		level = slog.LevelError
	case !state.Ended(): // nothing has come of it yet
		what, outcome = "job was set aside", ""
	}
	q.log.Log(
		ctx,
		level,
		what,
		"job",
		j.ID,
		"state",
		state,
		"outcome",
		outcome,
		"reason",
		done.Reason,
		"head",
		q.Head(),
	)
	q.changed(j.ID)
}

// setAside notes that a running job does not run any more, and has not ended.
func (q *Queue) setAside(ctx context.Context, c store.Claim, to store.State, reason string, trouble bool) error {
	return q.records.Patiently(func() error { return q.records.SetAside(ctx, c, store.Running, to, reason, trouble) })
}

// stopBy pauses a job for a check. One that may be settled by itself is tried again.
func (q *Queue) stopBy(ctx context.Context, j store.Job, b *step.BlockedError) error {
	why := b.Check.Message + " Settle that and let it go on, or cancel it and plan it again."
	if b.Passes() {
		why = b.Check.Message + " It goes on by itself when that is over."
		q.inTrouble(j, b)
	}
	return q.records.Patiently(func() error { return q.records.StopBy(ctx, j.Claim(), why, b.Passes(), b.Check) })
}

func (q *Queue) task(j store.Job, ends map[string]step.Ends) job.Task {
	task := job.Task{
		ID:    q.records.TaskID(j.ID),
		Ends:  ends,
		Plan:  j.Plan,
		Hold:  q.options.Hold,
		Every: q.options.Checkpoint,
		By:    fmt.Sprintf("job %d", j.ID),
		Asks:  true,
	}
	if j.Question != nil {
		task.Answer = step.Answer{Step: j.Question.Step, Name: j.Answer}
	}
	if j.Plan.Request.IsKept() {
		task.Records = points.Records(patient{q.records.Checkpoints(j.Claim()), q.records})
	}
	return task
}

// callOff undoes what an interrupted job that does not go on did to its source, and returns what is to be known of its machine then; nil where it has none.
func (q *Queue) callOff(ctx context.Context, j store.Job) (*receipt.Machine, error) {
	if j.Started == nil || !j.Plan.Together && !slices.ContainsFunc(j.Plan.Bodies, func(d plan.Disk) bool { return d.Renames }) {
		return nil, nil
	}
	ends, err := q.planner.EndsOf(ctx, j.Plan)
	if err != nil {
		return nil, fmt.Errorf("the move was interrupted, and its files have to get their old names again: %w", err)
	}
	task := q.task(j, ends)
	if task.Records != nil {
		task.Records = asItWas{task.Records}
	}
	done, err := task.CallOff(ctx)
	return done.Machine, err
}

// asItWas are the records of a job that nobody runs: they stay as its last runner kept them. What takes its work back looks first what is there.
type asItWas struct{ step.Records }

func (asItWas) Keep(context.Context, step.Journal, *step.Mark) error { return nil }

func (asItWas) Forget(context.Context, string, step.Journal) error { return nil }

func (q *Queue) work(ctx context.Context, j store.Job, r *run) (receipt.Receipt, error) {
	var ends map[string]step.Ends
	var err error
	who, err := q.planner.Now(ctx, j.Plan)
	if err == nil { // for a porter the service does there what is not reading, and what is of machines, and says what uses a file
		ends, err = q.planner.EndsOf(ctx, j.Plan)
		if storage.Lost(err) && who.Porter != "" && len(who.From) == 0 &&
			j.Plan.Machine == nil { // it reaches the storage that the service does not
			ends, err = nil, nil
		}
	}
	if err != nil { // where a porter is away, it waits
		return unrun(j, receipt.Failed, err), err
	}
	if who.Porter != j.Plan.Porter {
		q.records.NoteJob(ctx, j.ID, "went on", "by "+cmp.Or(who.Porter, "the service")+", not by "+j.Plan.Porter)
	}
	q.mu.Lock()
	r.porter = who.Porter
	q.mu.Unlock()
	number := 0
	task := q.task(j, ends)
	task.Wait = q.wait(r)
	task.Known = func(ctx context.Context, subject string) (known step.Known, err error) {
		err = q.records.Patiently(func() error {
			d, err := j.Plan.Body(subject)
			if err != nil {
				return err
			}
			if d.Undoes != nil {
				known, err = q.planner.KnownOfImage(ctx, d, j.Plan.Machine, time.Now())
			} else {
				known, err = q.planner.Known(ctx, d.Request, time.Now())
				known = butCovers(known, j.Plan.Machine)
			}
			return err
		})
		return known, err
	}
	task.Watch = func(p step.Progress) {
		if p.Number != number {
			number = p.Number
			if err := q.records.Patiently(
				func() error { return q.records.BeginStep(context.WithoutCancel(ctx), j.ID, number, time.Now()) },
			); err != nil {
				q.log.Error("noting a step", "job", j.ID, "step", p.Step, "error", err)
			}
		}
		q.mu.Lock()
		r.progress = &p
		q.mu.Unlock()
		q.changed(j.ID)
	}
	if who.Porter != "" {
		return q.away(ctx, j, who, task)
	}
	return task.Run(ctx)
}

// away has a porter do a job.
func (q *Queue) away(ctx context.Context, j store.Job, who planner.Doer, task job.Task) (receipt.Receipt, error) {
	done, err := q.options.Porters.Do(ctx, who.Porter, errand.Order{Job: j.ID, Epoch: j.Epoch, Ends: who.Ends, Pools: who.Pools}, task)
	if done.ID == "" { // it said nothing of what it has done
		done = unrun(j, receipt.Failed, cmp.Or(err, errors.New("it was not done")))
	}
	done.Porter = who.Porter
	return done, err
}

// GiveBack sets aside what a porter does, to go on with whoever can do it.
func (q *Queue) GiveBack(porter string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, r := range q.running {
		if r.porter == porter {
			r.stop(step.ErrSetAside)
		}
	}
}

// butCovers is what is known of a disk of a machine that moves while it runs, without the images that its guest writes to meanwhile.
func butCovers(known step.Known, m *plan.Machine) step.Known {
	all := known.Standing
	if m == nil || len(m.Live) == 0 || all == nil {
		return known
	}
	known.Standing = func(ctx context.Context, files []string) ([]string, error) {
		names, err := all(ctx, files)
		return slices.DeleteFunc(names, m.Covers), err
	}
	return known
}

// knowResult keeps the format that was written, so that a raw disk stays raw, and what it is called.
func (q *Queue) knowResult(ctx context.Context, j store.Job) error {
	for _, d := range j.Plan.Bodies {
		if d.Request.Destination == nil || d.After == nil || d.Undoes != nil {
			continue
		}
		to := *d.Request.Destination
		folder, err := q.places.Folder(ctx, to.Pool)
		if err != nil {
			return err
		}
		if err := q.places.Know(ctx, folder, to, d.After.Format); err != nil {
			return fmt.Errorf("noting the format of %s: %w", to, err)
		}
		if err := q.places.CallArrived(ctx, d); err != nil {
			return err
		}
	}
	return nil
}
