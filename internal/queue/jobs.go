package queue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step/disks"
	"bagaglio/internal/planner"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/go-jose/go-jose/v4"
)

// New is what is started: a plan, and how it may run. Nil is no limit.
type New struct {
	Plan  string // ID
	Who   string // asks for it
	Speed *int64 // bytes a second
	Hours *string
	// Agreed tells that somebody else has agreed to what it takes away for good.
	Agreed bool
	// May fails for a plan that who asks may not start; nil where they may start any.
	May func(plan.Plan) error `json:"-"`
}

// may fails for a plan, as it would be started, that who asks may not start.
func (n New) may(p plan.Plan) error {
	if n.May == nil {
		return nil
	}
	return n.May(p)
}

// GoneError is the error for a plan that takes data away for good, to which nobody else has agreed.
type GoneError struct{ Gone []string }

func (e *GoneError) Error() string {
	return fmt.Sprintf("%s would be gone for good: somebody else has to agree first", strings.Join(e.Gone, ", "))
}

// secondPerson fails for a plan that takes data away for good, where that needs one.
func (q *Queue) secondPerson(p plan.Plan) error {
	if gone := p.ForGood(); q.options.SecondPerson && len(gone) > 0 {
		return &GoneError{gone}
	}
	return nil
}

// Start puts the request of a plan into the queue. What the world looks like may have changed since, so it is planned anew.
func (q *Queue) Start(ctx context.Context, n New) (Job, error) {
	j, err, _ := q.starting.Do(n.Plan, func() (any, error) { return q.startPlan(ctx, n) }) // sent twice, it is one job
	return j.(Job), err
}

func (q *Queue) startPlan(ctx context.Context, n New) (Job, error) {
	kept, err := q.planner.Kept(ctx, n.Plan)
	if err != nil {
		return Job{}, err
	}
	if kept.Job > 0 {
		return q.Job(ctx, strconv.FormatInt(kept.Job, 10))
	}
	jobs := store.NewJobs{Kept: n.Plan, Who: n.Who}
	if n.Speed != nil {
		jobs.Speed = *n.Speed
	}
	if n.Hours != nil {
		jobs.Hours = *n.Hours
	}
	return q.start(ctx, kept.Plan, jobs, n)
}

// Again puts the request of an ended job into the queue as a new job, which somebody asks for who may start it.
func (q *Queue) Again(ctx context.Context, id, who string, may func(plan.Plan) error) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	if !j.State.Ended() {
		return Job{}, fmt.Errorf("%w: job %s is still %s", records.ErrState, id, j.State)
	}
	return q.start(ctx, j.Plan, store.NewJobs{Speed: j.Speed, Hours: j.Hours, Who: who}, New{May: may})
}

// start starts what was planned, as it is planned now, where that may be.
func (q *Queue) start(ctx context.Context, before plan.Plan, n store.NewJobs, asked New) (Job, error) {
	if n.Speed < 0 {
		return Job{}, fmt.Errorf("%w: a limit is 0, for none, or more", records.ErrInvalid)
	}
	if err := checkHours(n.Hours); err != nil {
		return Job{}, err
	}
	p, err := q.prepared(ctx, before.Request, time.Now())
	if err == nil {
		err = sameDisk(before, p)
	}
	if err == nil {
		err = asked.may(p)
	}
	if err == nil && !asked.Agreed {
		err = q.secondPerson(p)
	}
	if err != nil {
		return Job{}, err
	}
	n.Plans = []plan.Plan{p}
	ids, _, err := q.records.AddJobs(ctx, n, time.Now())
	if err != nil {
		return Job{}, err
	}
	q.changed(ids[0])
	q.dispatch()
	return q.Job(ctx, strconv.FormatInt(ids[0], 10))
}

// sameDisk fails where a disk of a computer is another one than the one that was planned with, since names of disks change, or a file that is to go.
func sameDisk(before, now plan.Plan) error {
	known := map[plan.Place]string{}
	for _, u := range before.Uses() {
		known[plan.Place{Pool: u.Pool, Path: u.Path}] = u.ID
	}
	for _, u := range now.Uses() {
		at := plan.Place{Pool: u.Pool, Path: u.Path}
		switch id := known[at]; {
		case id == "" || u.ID == "" || id == u.ID:
		case at.IsDevice():
			return &planner.BlockedError{Checks: []plan.Check{disks.AnotherDisk(at)}}
		case now.Request.Kind == plan.Remove:
			return &planner.BlockedError{Checks: []plan.Check{disks.AnotherFile(u.Path)}}
		}
	}
	return nil
}

// prepared is the plan of a request that is to be started. It fails where a check blocks it.
func (q *Queue) prepared(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	p, err := q.planner.Prepare(ctx, r, since)
	if err != nil {
		return p, err
	}
	if stop := p.With(plan.Blocks); len(stop) > 0 {
		return p, &planner.BlockedError{Checks: stop}
	}
	if r.Source.Format == "" {
		return p, nil
	}
	folder, err := q.places.Folder(ctx, r.Source.Pool)
	if err != nil {
		return p, err
	}
	return p, q.places.Know(ctx, folder, r.Source, r.Source.Format)
}

// Job is one as it is at present.
type Job struct {
	store.Job
	Actions []Action // that can be taken now
}

// Action is something that can be done to a job.
type Action string

// The actions. To undo is a request of that kind.
const (
	ActMove   Action = "move"
	ActPause  Action = "pause"
	ActResume Action = "resume"
	ActAnswer Action = "answer"
	ActCancel Action = "cancel"
	ActAgain  Action = "again"
	ActUndo   Action = "undo"
)

// Jobs returns jobs, the newest first.
func (q *Queue) Jobs(ctx context.Context, query store.JobQuery) ([]Job, error) {
	all, err := q.records.Jobs(ctx, query)
	return q.present(all), err
}

// Job returns one job.
func (q *Queue) Job(ctx context.Context, id string) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	return q.now(j), nil
}

func (q *Queue) present(all []store.Job) []Job {
	out := make([]Job, len(all))
	for i, j := range all {
		out[i] = q.now(j)
	}
	return out
}

// now is a job with what is known of it as it runs or waits.
func (q *Queue) now(j store.Job) Job {
	q.mu.Lock()
	defer q.mu.Unlock()
	if r, ok := q.running[j.ID]; ok && j.State == store.Running {
		j.Last = r.progress
	}
	if why := cmp.Or(q.waits[j.ID], q.enough[store.PoolsOf(j.Plan)]); why != "" && j.State == store.Waiting {
		j.Reason = why
	}
	return Job{j, actionsOn(j)}
}

// actionsOn is what can be done to a job in its present state.
func actionsOn(j store.Job) []Action {
	switch {
	case j.State == store.Waiting:
		return []Action{ActMove, ActPause, ActCancel}
	case j.State == store.Running:
		return []Action{ActPause, ActCancel}
	case j.State == store.Asking:
		return []Action{ActAnswer, ActCancel}
	case j.State == store.Paused && j.Trouble:
		return []Action{ActPause, ActResume, ActCancel}
	case j.State == store.Paused:
		return []Action{ActResume, ActCancel}
	case j.Journal != nil:
		return []Action{ActAgain, ActUndo}
	}
	return []Action{ActAgain}
}

// changed tells the followers of a job.
func (q *Queue) changed(id int64) {
	if !q.feed.Follows(strconv.FormatInt(id, 10)) {
		return
	}
	j, err := q.records.Job(context.Background(), id)
	if err != nil {
		q.log.Error("looking at a job that changed", "job", id, "error", err)
		return
	}
	q.feed.Publish(strconv.FormatInt(id, 10), q.now(j))
}

// Receipt returns what an ended job proves.
func (q *Queue) Receipt(ctx context.Context, id string) (receipt.Receipt, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return receipt.Receipt{}, err
	}
	switch {
	case !j.State.Ended():
		return receipt.Receipt{}, fmt.Errorf("%w: job %s is still %s, its receipt comes when it has ended", records.ErrState, id, j.State)
	case j.Receipt == nil:
		return receipt.Receipt{}, fmt.Errorf("%w: job %s was %s before it could write a receipt: %s", store.ErrNotFound, id, j.State, j.Reason)
	}
	return *j.Receipt, nil
}

// Seals returns the signed receipts behind a number, in their order, at most limit, and the key that checks them.
func (q *Queue) Seals(ctx context.Context, after int64, limit int) ([]store.Seal, jose.JSONWebKey, error) {
	seals, err := q.records.Seals(ctx, after, limit)
	return seals, q.key.Public(), err
}

// Cancel stops a job. What it wrote is removed before it ends.
func (q *Queue) Cancel(ctx context.Context, id string) (Job, error) {
	if err := q.cancel(ctx, id); err != nil {
		return Job{}, err
	}
	q.dispatch() // what waited for its files
	return q.Job(ctx, id)
}

func (q *Queue) cancel(ctx context.Context, id string) error {
	q.dispatching.Lock() // no job is between waiting and running now
	defer q.dispatching.Unlock()
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return err
	}
	if j.State.Ended() {
		return fmt.Errorf("%w: job %s has ended already (%s)", records.ErrState, id, j.State)
	}
	q.mu.Lock()
	r, running := q.running[j.ID]
	if running {
		r.cancelled = true
		r.stop(errCancelled)
	}
	q.mu.Unlock()
	if !running { // it waits, or was set aside; maybe only since it was looked at
		if j, err = q.records.JobByName(ctx, id); err != nil || j.State.Ended() {
			return err
		}
		done := unrun(j, receipt.Cancelled, errCancelled)
		if done.Machine, err = q.callOff(ctx, j); err != nil {
			return err
		}
		if err := q.remarkPlaced(ctx, j, &done); err != nil {
			return err
		}
		if err := q.end(ctx, j.Claim(), j.State, store.Cancelled, done); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if j.Started != nil { // it was paused
			if err := q.clear(ctx, j); err != nil { // its drive may be away: the next start tries again
				q.log.Warn("clearing up after a job", "job", j.ID, "error", err)
			}
		}
		q.changed(j.ID)
	}
	return nil
}

// remarkPlaced says in the receipt of a job that was stopped behind it that the new image is there.
func (q *Queue) remarkPlaced(ctx context.Context, j store.Job, r *receipt.Receipt) error {
	if j.Started == nil || j.Plan.Request.Destination == nil {
		return nil
	}
	ends, err := q.planner.EndsOf(ctx, j.Plan)
	if err != nil {
		return nil // it is not to be reached, and nothing is said of it
	}
	placed, err := q.task(j, ends).Placed(ctx)
	if placed {
		r.Remarks = append(r.Remarks, fmt.Sprintf("the new image %s has its name already, and stays; so does the source", j.Plan.After[0].Place))
	}
	return err
}
