package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/seal"
	"bagaglio/internal/store"
)

var (
	errCancelled = errors.New("cancelled on request")
	errStopping  = errors.New("the service was stopped while it ran: start it again")
)

// run is a job that is running.
type run struct {
	stop     context.CancelCauseFunc
	progress *job.Progress
}

// recover sets right what was going on when an earlier run of the service ended.
func (s *Service) recover(ctx context.Context) error {
	running, err := s.store.JobsIn(ctx, store.Running)
	if err != nil {
		return err
	}
	for _, j := range running {
		s.log.Warn("found an interrupted job", "job", j.ID)
		if err := s.end(ctx, j.ID, store.Running, store.Interrupted, unrun(j, job.Failed, errStopping)); err != nil {
			return err
		}
	}
	uncleared, err := s.store.UnclearedJobs(ctx)
	if err != nil {
		return err
	}
	for _, j := range uncleared {
		if err := s.clear(ctx, j); err != nil {
			// The pool may be on a drive that is not there now: the next start tries again.
			s.log.Warn("clearing up after an interrupted job", "job", j.ID, "error", err)
		}
	}
	return nil
}

// unrun is the receipt of a job that could not write its own.
func unrun(j store.Job, outcome job.Outcome, reason error) job.Receipt {
	now := time.Now()
	r := job.Receipt{
		Kind: j.Plan.Request.Kind, Outcome: outcome, Reason: reason.Error(), Source: job.Side{Side: plan.Side{Place: j.Plan.Request.Source}},
		Against: j.Plan.Request.Against, Steps: []job.Done{}, Started: now, Finished: now,
	}
	if j.Started != nil {
		r.Started = *j.Started
		r.Seconds = now.Sub(r.Started).Seconds()
	}
	return r
}

// end notes how a job ended, and seals its receipt behind the one before.
func (s *Service) end(ctx context.Context, id int64, from, to store.State, receipt job.Receipt) error {
	return s.store.EndJob(ctx, id, from, to, receipt, time.Now(), func(number int64, before string, b []byte) (string, error) {
		l := seal.Link{Number: number, Job: id, Receipt: b}
		if before != "" {
			l.Previous = seal.Digest(before)
		}
		return s.key.Seal(l)
	})
}

// clear removes what a job left in the staging folder.
func (s *Service) clear(ctx context.Context, j store.Job) error {
	if to := j.Plan.Request.Destination; to != nil {
		folder, err := s.folder(ctx, to.Pool)
		if err != nil && !errors.Is(err, store.ErrNotFound) { // a pool that was removed is no business of ours
			return err
		}
		if err == nil {
			if err := job.Clear(folder, s.stagingName(j.ID)); err != nil {
				return err
			}
		}
	}
	return s.store.ClearJob(ctx, j.ID)
}

// stagingName is unlike that of another service that uses the same pool.
func (s *Service) stagingName(id int64) string { return s.id + "-" + strconv.FormatInt(id, 10) }

// dispatch starts waiting jobs, the oldest first, as many as may run at once.
func (s *Service) dispatch() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closing {
		return
	}
	waiting, err := s.store.JobsIn(context.Background(), store.Waiting)
	if err != nil {
		s.log.Error("looking for waiting jobs", "error", err)
		return
	}
	for _, j := range waiting {
		if len(s.running) >= atOnce {
			return
		}
		if err := s.store.StartJob(context.Background(), j.ID, time.Now()); err != nil {
			s.log.Error("starting a job", "job", j.ID, "error", err)
			continue
		}
		ctx, stop := context.WithCancelCause(context.Background())
		r := &run{stop: stop}
		s.running[j.ID] = r
		s.jobs.Go(func() {
			defer stop(nil)
			s.run(ctx, j, r)
			s.dispatch()
		})
	}
}

// run runs a job to its end and notes it.
func (s *Service) run(ctx context.Context, j store.Job, r *run) {
	s.log.Info("job started", "job", j.ID, "kind", j.Plan.Request.Kind, "source", j.Plan.Request.Source.String())
	receipt, err := s.work(ctx, j, r)
	state, reason := store.Done, ""
	switch cause := context.Cause(ctx); {
	case err == nil:
	case errors.Is(cause, errStopping):
		state, reason = store.Interrupted, cause.Error()
	case errors.Is(cause, errCancelled):
		state, reason = store.Cancelled, cause.Error()
	default:
		state, reason = store.Failed, err.Error()
	}
	// Whoever stopped the job did not mean the notes about it.
	ctx = context.WithoutCancel(ctx)
	if reason != "" {
		receipt.Reason = reason
	}
	problem := errors.Join(
		s.store.EndSteps(ctx, j.ID, receipt.Steps, time.Now()),
		s.end(ctx, j.ID, store.Running, state, receipt),
		s.clear(ctx, j),
	)
	if err == nil && j.Plan.Request.Destination != nil {
		problem = errors.Join(problem, s.knowResult(ctx, j))
	}
	if problem != nil {
		s.log.Error("noting the end of a job", "job", j.ID, "error", problem)
	}
	s.log.Info("job ended", "job", j.ID, "state", state, "outcome", receipt.Outcome, "reason", reason)
	s.mu.Lock()
	delete(s.running, j.ID)
	s.mu.Unlock()
	s.changed(j.ID)
}

func (s *Service) work(ctx context.Context, j store.Job, r *run) (job.Receipt, error) {
	ends, err := s.ends(ctx, j.Plan.Request)
	if err != nil {
		return unrun(j, job.Failed, err), err
	}
	step := 0
	return job.Run(ctx, s.stagingName(j.ID), ends, j.Plan, func(p job.Progress) {
		if p.Number != step {
			step = p.Number
			if err := s.store.BeginStep(context.WithoutCancel(ctx), j.ID, step, time.Now()); err != nil {
				s.log.Error("noting a step", "job", j.ID, "step", p.Step, "error", err)
			}
		}
		s.mu.Lock()
		r.progress = &p
		s.mu.Unlock()
		s.changed(j.ID)
	})
}

// knowResult keeps the format that was written, so that a raw disk stays raw.
func (s *Service) knowResult(ctx context.Context, j store.Job) error {
	to := *j.Plan.Request.Destination
	folder, err := s.folder(ctx, to.Pool)
	if err != nil {
		return err
	}
	if err := s.know(ctx, folder, to, j.Plan.Request.As); err != nil {
		return fmt.Errorf("noting the format of %s: %w", to, err)
	}
	return nil
}
