package queue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"bagaglio/core/plan"
	"bagaglio/internal/planner"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Group is jobs that were started together.
type Group struct {
	store.Group
	Jobs    []Job
	Refused []Refused // of a group that an earlier version started in part
}

// Refused is a request that was not started, and why.
type Refused struct {
	Source plan.Place `json:"source"`
	Why    string     `json:"why"`
}

// StartGroup starts all requests of the plan of a group, or none, which somebody asks for: each is planned anew, since the world may have changed.
func (q *Queue) StartGroup(ctx context.Context, n New) (Group, error) {
	g, err, _ := q.starting.Do(
		"group "+n.Plan,
		func() (any, error) { return q.startGroup(context.WithoutCancel(ctx), n) },
	) // a line that is cut changes nothing
	return g.(Group), err
}

func (q *Queue) startGroup(ctx context.Context, asked New) (Group, error) {
	kept, err := q.planner.KeptGroup(ctx, asked.Plan)
	if err != nil {
		return Group{}, err
	}
	switch {
	case kept.Group > 0:
		return q.Group(ctx, strconv.FormatInt(kept.Group, 10))
	case !kept.Plan.Ready:
		return Group{}, fmt.Errorf("%w: %d of %d requests are planned so far: start the group when all are", records.ErrState, kept.Done, kept.Of)
	case kept.Plan.Problem != "":
		return Group{}, fmt.Errorf("%w: %s", records.ErrState, kept.Plan.Problem)
	case len(kept.Plan.Requests) == 0:
		return Group{}, fmt.Errorf("%w: there is nothing to do", records.ErrState)
	}
	if err := checkHours(kept.Plan.Hours); err != nil {
		return Group{}, err
	}
	n := store.NewJobs{Who: asked.Who,
		Group: kept.Plan.Name, Kept: asked.Plan, Hours: kept.Plan.Hours, AtOnce: kept.Plan.AtOnce, StopAfter: kept.Plan.StopAfter,
	}
	var stopped planner.BlockedError
	since, used := time.Now(), plan.Used{}
	for _, r := range kept.Plan.Requests {
		p, err := q.prepared(ctx, r, since)
		var blocked *planner.BlockedError
		if err != nil && !errors.As(err, &blocked) {
			return Group{}, fmt.Errorf("%s: %w", r.Subject(), err)
		}
		for _, c := range plan.PartOf(p, used).Checks {
			if c.Severity == plan.Blocks {
				c.Message, c.Remedies = fmt.Sprintf("%s: %s", r.Subject(), c.Message), nil
				stopped.Checks = append(stopped.Checks, c)
			}
		}
		if err := asked.may(p); err != nil {
			return Group{}, fmt.Errorf("%s: %w", r.Subject(), err)
		}
		if err := q.secondPerson(p); err != nil {
			return Group{}, fmt.Errorf("%w: %w: leave it out here, and start it alone", records.ErrState, err)
		}
		n.Plans = append(n.Plans, p)
	}
	if len(stopped.Checks) > 0 {
		return Group{}, &stopped
	}
	ids, group, err := q.records.AddJobs(ctx, n, time.Now())
	if err != nil {
		return Group{}, err
	}
	for _, id := range ids {
		q.changed(id)
	}
	q.dispatch()
	return q.Group(ctx, strconv.FormatInt(group, 10))
}

// Groups returns the newest groups.
func (q *Queue) Groups(ctx context.Context) (out []Group, err error) {
	all, err := q.records.Groups(ctx, 100)
	for _, g := range all {
		now, err := q.group(ctx, g)
		if err != nil {
			return nil, err
		}
		out = append(out, now)
	}
	return out, err
}

// Group returns one group.
func (q *Queue) Group(ctx context.Context, id string) (Group, error) {
	number, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return Group{}, fmt.Errorf("group %q: %w", id, store.ErrNotFound)
	}
	g, err := q.records.Group(ctx, number)
	if err != nil {
		return Group{}, fmt.Errorf("group %s: %w", id, err)
	}
	return q.group(ctx, g)
}

func (q *Queue) group(ctx context.Context, g store.Group) (out Group, err error) {
	out.Group = g
	if err := json.Unmarshal([]byte(g.Refused), &out.Refused); err != nil {
		return out, err
	}
	jobs, err := q.records.JobsOf(ctx, g.ID)
	out.Jobs = q.present(jobs)
	return out, err
}

// ActOnGroup does something to all jobs of a group that have not ended.
func (q *Queue) ActOnGroup(ctx context.Context, id, act string) (Group, error) {
	acts := map[Action]func(context.Context, string) (Job, error){ActPause: q.Pause, ActResume: q.Resume, ActCancel: q.Cancel}
	do, ok := acts[Action(act)]
	if !ok {
		return Group{}, fmt.Errorf("%w: a group is paused, resumed or cancelled", records.ErrInvalid)
	}
	g, err := q.Group(ctx, id)
	if err != nil {
		return g, err
	}
	for _, j := range g.Jobs {
		if j.State.Ended() {
			continue
		}
		if _, err := do(
			ctx,
			strconv.FormatInt(j.ID, 10),
		); err != nil &&
			!errors.Is(err, records.ErrState) { // one that has changed meanwhile, or is so already
			return g, err
		}
	}
	return q.Group(ctx, id)
}

// AnswerGroup gives all jobs of a group that ask something with such an answer that answer.
func (q *Queue) AnswerGroup(ctx context.Context, id, name string) (Group, error) {
	g, err := q.Group(ctx, id)
	if err != nil {
		return g, err
	}
	answered := 0
	for _, j := range g.Jobs {
		if j.State != store.Asking || !j.Question.Has(name) {
			continue
		}
		_, err := q.Answer(ctx, strconv.FormatInt(j.ID, 10), name)
		if err != nil && !errors.Is(err, records.ErrState) { // somebody else was first
			return g, err
		}
		answered++
	}
	if answered == 0 {
		return g, fmt.Errorf("%w: no job of group %s asks something that is answered %q", records.ErrState, id, name)
	}
	return q.Group(ctx, id)
}

// mindGroup has the jobs of a group that wait wait on, where so many of it have failed that it is to stop.
func (q *Queue) mindGroup(ctx context.Context, id int64) error {
	g, err := q.records.Group(ctx, id)
	if err != nil || g.StopAfter == 0 {
		return err
	}
	q.dispatching.Lock() // no job is between waiting and running now
	defer q.dispatching.Unlock()
	jobs, err := q.records.JobsOf(ctx, id)
	if err != nil {
		return err
	}
	failed := 0
	for _, j := range jobs {
		if j.State == store.Failed {
			failed++
		}
	}
	if failed < g.StopAfter {
		return nil
	}
	for _, j := range jobs {
		if j.State != store.Waiting {
			continue
		}
		why := fmt.Sprintf("%d of its group failed, and the others wait: let it go on (bagaglio group resume %d), or cancel it", failed, id)
		err := q.records.SetAside(ctx, j.Claim(), store.Waiting, store.Paused, why, false)
		if err != nil && !errors.Is(err, store.ErrNotFound) { // it is something else meanwhile
			return err
		}
		q.changed(j.ID)
	}
	return nil
}

// turn says why a job waits for others of its group; nil where it does not.
func (q *Queue) turn(ctx context.Context, j store.Job) error {
	if j.Group == 0 {
		return nil
	}
	g, err := q.records.Group(ctx, j.Group)
	if err != nil || g.AtOnce == 0 {
		return err
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	running := 0
	for _, r := range q.running {
		if r.group == g.ID {
			running++
		}
	}
	if running >= g.AtOnce {
		return fmt.Errorf("waits for others of group %d: %d of it run at once", g.ID, g.AtOnce)
	}
	return nil
}
