package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage/local"
	"bagaglio/internal/points"
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
	// cancelled tells that it was cancelled, maybe when it was being set aside already.
	cancelled bool
}

// recover sets right what was going on when an earlier run of the service ended: what ran goes on.
func (s *Service) recover(ctx context.Context) error {
	running, err := s.store.JobsIn(ctx, store.Running)
	if err != nil {
		return err
	}
	for _, j := range running {
		s.log.Warn("found an interrupted job, which goes on", "job", j.ID)
		if err := s.store.SetAside(ctx, j.Claim(), store.Running, store.Waiting, "", false); err != nil {
			return err
		}
		s.noteJob(ctx, j.ID, "found interrupted", "it goes on")
	}
	uncleared, err := s.store.UnclearedJobs(ctx)
	if err != nil {
		return err
	}
	for _, j := range uncleared {
		if err := s.clear(ctx, j); err != nil {
			// The pool may be on a drive that is not there now: the next start tries again.
			s.log.Warn("clearing up after a job", "job", j.ID, "error", err)
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
func (s *Service) end(ctx context.Context, c store.Claim, from, to store.State, done receipt.Receipt) error {
	last, err := s.store.LastSeal(ctx)
	if err != nil {
		return err
	}
	head, err := s.chain.add(
		c.Job,
		last.Number,
		func(sealer store.Sealer) error { return s.store.EndJob(ctx, c, from, to, done, time.Now(), sealer) },
	)
	if err != nil {
		return err
	}
	s.noteJob(ctx, c.Job, "ended", fmt.Sprintf("%s; receipt %s", done.Outcome, head))
	return s.patiently(s.chain.keep)
}

// clear removes what a job left in the staging folder.
func (s *Service) clear(ctx context.Context, j store.Job) error {
	for _, d := range j.Plan.Bodies {
		to := d.Request.Destination
		if to == nil {
			continue
		}
		folder, err := s.folder(ctx, to.Pool)
		if errors.Is(err, store.ErrNotFound) { // a pool that was removed is no business of ours
			continue
		}
		if err == nil {
			err = disks.Clear(folder, plan.TaskID(s.stagingName(j.ID), d.ID))
		}
		if err != nil {
			return err
		}
	}
	return s.store.ClearJob(ctx, j.ID)
}

// stagingName is unlike that of another service that uses the same pool.
func (s *Service) stagingName(id int64) string { return s.id + "-" + strconv.FormatInt(id, 10) }

// page is how many waiting jobs are looked at together.
const page = 50

// dispatch starts the waiting jobs that may run, in their order.
func (s *Service) dispatch() {
	s.dispatching.Lock()
	defer s.dispatching.Unlock()
	ctx := context.Background()
	blocked := map[string]error{} // by the pools of a job, so that a long queue is looked through fast
	for behind := store.BeforeAll; ; {
		waiting, err := s.store.Waiting(ctx, behind, page)
		if err != nil {
			s.log.Error("looking for waiting jobs", "error", err)
			return
		}
		for _, j := range waiting {
			behind = j.Rank
			s.mu.Lock()
			_, full := s.full([]scope{{scopeService, ""}})
			closing := s.closing
			s.mu.Unlock()
			if full || closing {
				return
			}
			pools := strings.Join(j.Plan.Pools(), " ")
			why := blocked[pools]
			if why == nil {
				why = s.tryStart(ctx, j)
			}
			if errors.Is(why, errFull) {
				blocked[pools] = why
			}
			if why != nil {
				s.setWaits(j.ID, why.Error())
			}
		}
		if len(waiting) < page {
			return
		}
	}
}

// tryStart starts a job, or says why it has to wait.
func (s *Service) tryStart(ctx context.Context, j store.Job) error {
	if !within(j.Hours, time.Now()) {
		return fmt.Errorf("waits for its hours, %s", j.Hours)
	}
	scopes := s.scopesOf(ctx, j)
	s.mu.Lock()
	_, still := s.running[j.ID]
	x, full := s.full(scopes)
	s.mu.Unlock()
	if still { // its end calls dispatch again
		return errors.New("waits until it has been set aside")
	}
	if full {
		return fmt.Errorf("%w of %s to end", errFull, x)
	}
	leases, err := s.leasesOf(ctx, j)
	if err != nil {
		return err
	}
	claim, err := s.store.StartJob(ctx, j.ID, leases, s.runner, time.Now())
	if err != nil {
		var leased *store.LeasedError
		if errors.As(err, &leased) {
			return fmt.Errorf("waits: %w", err)
		}
		return err
	}
	j.Epoch = claim.Epoch
	runCtx, stop := context.WithCancelCause(context.Background())
	r := &run{claim: claim, stop: stop, scopes: scopes, hours: j.Hours, meter: rate.NewLimiter(rateOf(j.Speed), burst)}
	s.mu.Lock()
	s.running[j.ID] = r
	delete(s.waits, j.ID)
	s.mu.Unlock()
	s.noteJob(ctx, j.ID, "started", "")
	s.jobs.Go(func() {
		defer stop(nil)
		s.run(runCtx, j, r)
		s.dispatch()
	})
	return nil
}

// leaseOf is what a file of a pool is called in leases.
func leaseOf(pool store.Pool, file string) string {
	whole := path.Join(pool.Folder, file)
	if pool.Host == localHost { // a pool may be mounted at two places
		whole = local.Canonical(whole)
	}
	return pool.Host + ":" + whole
}

// leasesOf are the files that a job uses, by host and path.
func (s *Service) leasesOf(ctx context.Context, j store.Job) ([]store.Lease, error) {
	var leases []store.Lease
	for _, u := range j.Plan.Uses() {
		pool, err := s.store.Pool(ctx, u.Pool)
		if err != nil {
			return nil, fmt.Errorf("pool %q: %w", u.Pool, err)
		}
		leases = append(leases, store.Lease{File: leaseOf(pool, u.Path), Writes: u.Writes})
	}
	return leases, nil
}

// setWaits notes why a job waits.
func (s *Service) setWaits(id int64, why string) {
	s.mu.Lock()
	same := s.waits[id] == why
	s.waits[id] = why
	s.mu.Unlock()
	if !same {
		s.changed(id)
	}
}

// run runs a job to its end, or until it is set aside, and notes it.
func (s *Service) run(ctx context.Context, j store.Job, r *run) {
	s.log.Info("job started", "job", j.ID, "kind", j.Plan.Request.Kind, "source", j.Plan.Carried().Source.String())
	done, err := s.work(ctx, j, r)
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
		state, problem = store.Waiting, s.setAside(ctx, j.Claim(), store.Waiting, "", false)
	case errors.Is(cause, errPaused):
		state, problem = store.Paused, s.setAside(ctx, j.Claim(), store.Paused, "paused on request", false)
	case errors.Is(cause, step.ErrSetAside):
		state, problem = store.Waiting, s.setAside(ctx, j.Claim(), store.Waiting, "", false)
	case errors.Is(cause, errCancelled):
		state, done.Outcome, done.Reason = store.Cancelled, receipt.Cancelled, cause.Error()
	case asks:
		state, problem = store.Asking, s.patiently(func() error { return s.store.Ask(ctx, j.Claim(), question) })
	case j.Plan.Carried().Destination != nil && errors.As(err, &blocked):
		state, problem = store.Paused, s.stopBy(ctx, j, blocked)
	case j.Plan.Carried().Destination != nil && step.CanWait(err):
		state, problem = store.Paused, s.setAside(ctx, j.Claim(), store.Paused, step.Explain(err).Error()+"; it goes on by itself then", true)
		s.inTrouble(j, err)
	default:
		state, done.Reason = store.Failed, err.Error()
	}
	problem = errors.Join(problem, s.patiently(func() error { return s.store.EndSteps(ctx, j.ID, done.Steps, time.Now()) }))
	if state.Ended() {
		problem = errors.Join(
			problem,
			s.patiently(func() error { return s.end(ctx, j.Claim(), store.Running, state, done) }),
			s.patiently(func() error { return s.clear(ctx, j) }),
		)
	} else {
		s.noteJob(ctx, j.ID, "set aside", cmp.Or(question.Text, string(state)))
	}
	if state == store.Done && j.Plan.Request.Destination != nil {
		problem = errors.Join(problem, s.patiently(func() error { return s.knowResult(ctx, j) }))
	}
	s.mu.Lock()
	last := r.progress
	s.mu.Unlock()
	if last != nil {
		problem = errors.Join(problem, s.patiently(func() error { return s.store.SetLast(ctx, j.ID, *last) }))
	}
	s.mu.Lock()
	delete(s.running, j.ID)
	if state.Ended() {
		delete(s.troubles, j.ID)
	}
	cancelled := r.cancelled && !state.Ended()
	s.mu.Unlock()
	if cancelled {
		problem = errors.Join(problem, s.cancel(ctx, strconv.FormatInt(j.ID, 10)))
	}
	if problem != nil {
		s.log.Error("noting the end of a job", "job", j.ID, "error", problem)
	}
	touched := j.Plan.Pools()
	for _, d := range j.Plan.Bodies {
		touched = append(touched, definitionPools(d)...)
	}
	s.touch(touched...)
	level := slog.LevelInfo
	if state == store.Failed {
		level = slog.LevelError
	}
	s.log.Log(
		ctx,
		level,
		"job ended or was set aside",
		"job",
		j.ID,
		"state",
		state,
		"outcome",
		done.Outcome,
		"reason",
		done.Reason,
		"head",
		s.Head(),
	)
	s.changed(j.ID)
}

// setAside notes that a running job does not run any more, and has not ended.
func (s *Service) setAside(ctx context.Context, c store.Claim, to store.State, reason string, trouble bool) error {
	return s.patiently(func() error { return s.store.SetAside(ctx, c, store.Running, to, reason, trouble) })
}

// stopBy pauses a job for a check. One that may be settled by itself is tried again.
func (s *Service) stopBy(ctx context.Context, j store.Job, b *step.BlockedError) error {
	why := b.Check.Message + " Settle that and let it go on, or cancel it and plan it again."
	if b.Passes() {
		why = b.Check.Message + " It goes on by itself when that is over."
		s.inTrouble(j, b)
	}
	return s.patiently(func() error { return s.store.StopBy(ctx, j.Claim(), why, b.Passes(), b.Check) })
}

func (s *Service) task(j store.Job, ends map[string]step.Ends) job.Task {
	task := job.Task{
		ID:    s.stagingName(j.ID),
		Ends:  ends,
		Plan:  j.Plan,
		Hold:  s.options.Hold,
		Every: s.options.Checkpoint,
		By:    fmt.Sprintf("job %d", j.ID),
		Asks:  true,
	}
	if j.Question != nil {
		task.Answer = step.Answer{Step: j.Question.Step, Name: j.Answer}
	}
	if j.Plan.Request.Destination != nil {
		task.Records = points.Records(patient{s.store.Checkpoints(j.Claim()), s})
	}
	return task
}

// callOff undoes what an interrupted job that does not go on did to its source.
func (s *Service) callOff(ctx context.Context, j store.Job) error {
	if j.Started == nil || !j.Plan.Together && !slices.ContainsFunc(j.Plan.Bodies, func(d plan.Disk) bool { return d.Renames }) {
		return nil
	}
	ends, err := s.endsOf(ctx, j.Plan)
	if err != nil {
		return fmt.Errorf("the move was interrupted, and its files have to get their old names again: %w", err)
	}
	return s.task(j, ends).CallOff(ctx)
}

func (s *Service) work(ctx context.Context, j store.Job, r *run) (receipt.Receipt, error) {
	ends, err := s.endsOf(ctx, j.Plan)
	if err != nil {
		return unrun(j, receipt.Failed, err), err
	}
	number := 0
	task := s.task(j, ends)
	task.Wait = s.wait(r)
	task.Known = func(ctx context.Context, subject string) (known step.Known, err error) {
		err = s.patiently(func() error {
			d, err := j.Plan.Body(subject)
			if err != nil {
				return err
			}
			if d.Undoes != nil {
				known, err = s.knownOfImage(ctx, d, time.Now())
			} else {
				known, err = s.known(ctx, d.Request, time.Now())
			}
			return err
		})
		return known, err
	}
	task.Watch = func(p step.Progress) {
		if p.Number != number {
			number = p.Number
			if err := s.patiently(func() error { return s.store.BeginStep(context.WithoutCancel(ctx), j.ID, number, time.Now()) }); err != nil {
				s.log.Error("noting a step", "job", j.ID, "step", p.Step, "error", err)
			}
		}
		s.mu.Lock()
		r.progress = &p
		s.mu.Unlock()
		s.changed(j.ID)
	}
	return task.Run(ctx)
}

// knowResult keeps the format that was written, so that a raw disk stays raw.
func (s *Service) knowResult(ctx context.Context, j store.Job) error {
	for _, d := range j.Plan.Bodies {
		to := *d.Request.Destination
		folder, err := s.folder(ctx, to.Pool)
		if err != nil {
			return err
		}
		if err := s.know(ctx, folder, to, d.After.Format); err != nil {
			return fmt.Errorf("noting the format of %s: %w", to, err)
		}
	}
	return nil
}
