package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/store"

	"github.com/go-jose/go-jose/v4"
)

// Start puts the request of a plan into the queue. What the world looks like may have changed since, so it is planned anew.
func (s *Service) Start(ctx context.Context, n api.NewJob) (api.Job, error) {
	j, err, _ := s.starting.Do(n.Plan, func() (any, error) { return s.startPlan(ctx, n) }) // sent twice, it is one job
	return j.(api.Job), err
}

func (s *Service) startPlan(ctx context.Context, n api.NewJob) (api.Job, error) {
	p, started, err := s.store.KeptPlan(ctx, n.Plan)
	if err != nil {
		return api.Job{}, fmt.Errorf("plan %q: %w", n.Plan, err)
	}
	if started > 0 {
		return s.Job(ctx, strconv.FormatInt(started, 10))
	}
	var speed int64
	var hours string
	if n.Speed != nil {
		speed = *n.Speed
	}
	if n.Hours != nil {
		hours = *n.Hours
	}
	j, err := s.start(ctx, p.Request, speed, hours)
	if err != nil {
		return j, err
	}
	id, err := strconv.ParseInt(j.Id, 10, 64)
	if err == nil {
		err = s.store.PlanStarted(ctx, n.Plan, id)
	}
	return j, err
}

// Again puts the request of an ended job into the queue as a new job.
func (s *Service) Again(ctx context.Context, id string) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	if !j.State.Ended() {
		return api.Job{}, fmt.Errorf("%w: job %s is still %s", ErrState, id, j.State)
	}
	return s.start(ctx, j.Plan.Request, j.Speed, j.Hours)
}

func (s *Service) start(ctx context.Context, r plan.Request, speed int64, hours string) (api.Job, error) {
	id, err := s.startIn(ctx, r, speed, hours, 0, time.Now())
	if err != nil {
		return api.Job{}, err
	}
	s.dispatch()
	return s.Job(ctx, strconv.FormatInt(id, 10))
}

// startIn puts a request into the queue, as one of a group unless that is 0.
func (s *Service) startIn(ctx context.Context, r plan.Request, speed int64, hours string, group int64, since time.Time) (int64, error) {
	if err := checkHours(hours); err != nil {
		return 0, err
	}
	if speed < 0 {
		return 0, fmt.Errorf("%w: a limit is 0, for none, or more", ErrInvalid)
	}
	p, err := s.prepare(ctx, r, since)
	if err != nil {
		return 0, err
	}
	if stop := p.With(plan.Blocks); len(stop) > 0 {
		return 0, &BlockedError{stop}
	}
	if r.Source.Format != "" {
		folder, err := s.folder(ctx, r.Source.Pool)
		if err != nil {
			return 0, err
		}
		if err := s.know(ctx, folder, r.Source, r.Source.Format); err != nil {
			return 0, err
		}
	}
	id, err := s.store.AddJob(ctx, p, speed, hours, time.Now())
	if err == nil && group > 0 {
		err = s.store.JoinGroup(ctx, id, group)
	}
	if err == nil {
		s.changed(id)
	}
	return id, err
}

// Jobs returns jobs without their plans, the newest first, behind a cursor, and the next one.
func (s *Service) Jobs(ctx context.Context, q store.JobQuery) (list api.JobList, err error) {
	records, err := s.store.Jobs(ctx, q)
	list.Items = make([]api.Job, len(records))
	for i, r := range records {
		list.Items[i] = s.summary(r)
	}
	if len(records) == q.Limit {
		list.Next = &list.Items[len(records)-1].Id
	}
	return list, err
}

// Job returns one job.
func (s *Service) Job(ctx context.Context, id string) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	return s.view(j), nil
}

func (s *Service) job(ctx context.Context, id string) (store.Job, error) {
	number, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return store.Job{}, fmt.Errorf("job %q: %w", id, store.ErrNotFound)
	}
	j, err := s.store.Job(ctx, number)
	if err != nil {
		return j, fmt.Errorf("job %s: %w", id, err)
	}
	return j, nil
}

// view is a job as the API shows it.
func (s *Service) view(j store.Job) api.Job {
	v := s.summary(j)
	shown := j.Plan.Shown()
	v.Plan = &shown
	return v
}

// summary is a job without its plan.
func (s *Service) summary(j store.Job) api.Job {
	warnings := j.Plan.With(plan.Warns)
	v := api.Job{
		Id: strconv.FormatInt(j.ID, 10), State: api.JobState(j.State), Request: j.Plan.Request, Warnings: &warnings,
		Created: j.Created, Started: j.Started, Finished: j.Finished, Ended: j.State.Ended(), Actions: actionsOn(j), Etag: etag(j.Speed, j.Hours),
	}
	if j.Outcome != "" {
		outcome := api.JobOutcome(j.Outcome)
		v.Outcome = &outcome
	}
	if j.Group > 0 {
		v.Group = ptr(strconv.FormatInt(j.Group, 10))
	}
	v.StoppedBy = j.StoppedBy
	if j.State == store.Asking {
		v.Question = j.Question
	}
	v.Speed, v.Hours, v.ByItself, v.Progress = j.Speed, j.Hours, j.Trouble, j.Last
	s.mu.Lock()
	defer s.mu.Unlock()
	if r, ok := s.running[j.ID]; ok && j.State == store.Running {
		v.Progress = r.progress
	}
	if why := s.waits[j.ID]; why != "" && j.State == store.Waiting {
		j.Reason = why
	}
	if j.Reason != "" {
		v.Reason = &j.Reason
	}
	return v
}

// actionsOn is what can be done to a job in its present state.
func actionsOn(j store.Job) []api.JobAction {
	switch {
	case j.State == store.Waiting:
		return []api.JobAction{api.ActMove, api.ActPause, api.ActCancel}
	case j.State == store.Running:
		return []api.JobAction{api.ActPause, api.ActCancel}
	case j.State == store.Asking:
		return []api.JobAction{api.ActAnswer, api.ActCancel}
	case j.State == store.Paused && j.Trouble:
		return []api.JobAction{api.ActPause, api.ActResume, api.ActCancel}
	case j.State == store.Paused:
		return []api.JobAction{api.ActResume, api.ActCancel}
	case j.Journal != nil:
		return []api.JobAction{api.ActAgain, api.ActUndo}
	}
	return []api.JobAction{api.ActAgain}
}

// changed tells the followers of a job.
func (s *Service) changed(id int64) {
	j, err := s.store.Job(context.Background(), id)
	if err != nil {
		s.log.Error("looking at a job that changed", "job", id, "error", err)
		return
	}
	news := s.summary(j)
	s.feed.Publish(news.Id, news)
}

// Receipt returns what an ended job proves.
func (s *Service) Receipt(ctx context.Context, id string) (receipt.Receipt, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return receipt.Receipt{}, err
	}
	switch {
	case !j.State.Ended():
		return receipt.Receipt{}, fmt.Errorf("%w: job %s is still %s, its receipt comes when it has ended", ErrState, id, j.State)
	case j.Receipt == nil:
		return receipt.Receipt{}, fmt.Errorf("%w: job %s was %s before it could write a receipt: %s", store.ErrNotFound, id, j.State, j.Reason)
	}
	return *j.Receipt, nil
}

// Seals returns the signed receipts behind a number, in their order, at most limit, and the key that checks them.
func (s *Service) Seals(ctx context.Context, after int64, limit int) ([]store.Seal, jose.JSONWebKey, error) {
	seals, err := s.store.Seals(ctx, after, limit)
	return seals, s.key.Public(), err
}

// Cancel stops a job. What it wrote is removed before it ends.
func (s *Service) Cancel(ctx context.Context, id string) (api.Job, error) {
	if err := s.cancel(ctx, id); err != nil {
		return api.Job{}, err
	}
	s.dispatch() // what waited for its files
	return s.Job(ctx, id)
}

func (s *Service) cancel(ctx context.Context, id string) error {
	s.dispatching.Lock() // no job is between waiting and running now
	defer s.dispatching.Unlock()
	j, err := s.job(ctx, id)
	if err != nil {
		return err
	}
	if j.State.Ended() {
		return fmt.Errorf("%w: job %s has ended already (%s)", ErrState, id, j.State)
	}
	s.mu.Lock()
	r, running := s.running[j.ID]
	if running {
		r.cancelled = true
		r.stop(errCancelled)
	}
	s.mu.Unlock()
	if !running { // it waits, or its end is being noted
		if err := s.callOff(ctx, j); err != nil {
			return err
		}
		done := unrun(j, receipt.Cancelled, errCancelled)
		if err := s.remarkPlaced(ctx, j, &done); err != nil {
			return err
		}
		err := s.end(ctx, j.Claim(), j.State, store.Cancelled, done)
		if err == nil && j.Started != nil { // it was paused
			err = s.clear(ctx, j)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		s.changed(j.ID)
	}
	return nil
}

// remarkPlaced says in the receipt of a job that was stopped behind it that the new image is there.
func (s *Service) remarkPlaced(ctx context.Context, j store.Job, r *receipt.Receipt) error {
	if j.Started == nil || j.Plan.Request.Destination == nil {
		return nil
	}
	ends, err := s.endsOf(ctx, j.Plan)
	if err != nil {
		return nil // it is not to be reached, and nothing is said of it
	}
	placed, err := s.task(j, ends).Placed(ctx)
	if placed {
		r.Remarks = append(r.Remarks, fmt.Sprintf("the new image %s has its name already, and stays; so does the source", j.Plan.After[0].Place))
	}
	return err
}

// LongestWrite is the longest time for which one transaction kept others from writing into the records.
func (s *Service) LongestWrite() time.Duration { return s.store.LongestWrite() }

// CountJobs counts the jobs in each state.
func (s *Service) CountJobs(ctx context.Context) (map[store.State]int, error) {
	return s.store.CountJobs(ctx)
}
