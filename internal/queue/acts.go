package queue

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Pause stops a job so that it can go on later.
func (q *Queue) Pause(ctx context.Context, id string) (Job, error) {
	q.dispatching.Lock() // no job is between waiting and running now
	defer q.dispatching.Unlock()
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	q.mu.Lock()
	r, running := q.running[j.ID]
	if running {
		r.stop(errPaused)
	}
	q.mu.Unlock()
	if !running {
		from := j.State
		if from != store.Waiting && (from != store.Paused || !j.Trouble) {
			return Job{}, fmt.Errorf("%w: job %s is %s", records.ErrState, id, from)
		}
		if err := q.records.SetAside(ctx, j.Claim(), from, store.Paused, "paused on request", false); err != nil {
			return Job{}, fmt.Errorf("%w: job %s changed meanwhile: try again", records.ErrState, id)
		}
		q.changed(j.ID)
	}
	return q.Job(ctx, id)
}

// Answer lets a job that asks go on with an answer.
func (q *Queue) Answer(ctx context.Context, id, name string) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	if j.State != store.Asking {
		return Job{}, fmt.Errorf("%w: job %s is %s and asks nothing", records.ErrState, id, j.State)
	}
	if !j.Question.Has(name) {
		var names []string
		for _, c := range j.Question.Answers {
			names = append(names, c.Name)
		}
		return Job{}, fmt.Errorf("%w: %q is no answer to what job %s asks: answer %s", records.ErrInvalid, name, id, strings.Join(names, " or "))
	}
	if err := q.records.Answer(ctx, j.Claim(), name); err != nil {
		if errors.Is(err, store.ErrNotFound) { // somebody else was first
			err = fmt.Errorf("%w: job %s asks nothing any more", records.ErrState, id)
		}
		return Job{}, err
	}
	q.records.NoteJob(ctx, j.ID, "answered", name)
	q.changed(j.ID)
	q.dispatch()
	return q.Job(ctx, id)
}

// Resume lets a paused job go on.
func (q *Queue) Resume(ctx context.Context, id string) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	if err := q.records.SetAside(ctx, j.Claim(), store.Paused, store.Waiting, "", false); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("%w: job %s is %s, not paused", records.ErrState, id, j.State)
		}
		return Job{}, err
	}
	q.changed(j.ID)
	q.dispatch()
	return q.Job(ctx, id)
}

// Move changes the place of a waiting job in the queue: before another one, or behind all.
func (q *Queue) Move(ctx context.Context, id, before string) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	other := int64(0)
	if before == first {
		waiting, err := q.records.Waiting(ctx, 0, nil, 1)
		if err != nil {
			return Job{}, err
		}
		if len(waiting) > 0 {
			other = waiting[0].ID
		}
	} else if before != "" {
		o, err := q.records.JobByName(ctx, before)
		if err != nil {
			return Job{}, err
		}
		other = o.ID
	}
	if other != j.ID {
		if err := q.records.MoveJob(ctx, j.ID, other); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				err = fmt.Errorf("%w: only jobs that wait have a place in the queue", records.ErrState)
			}
			return Job{}, err
		}
	}
	q.changed(j.ID)
	return q.Job(ctx, id)
}

// first stands for the job that is first in the queue.
const first = "first"

// Change changes how a job may run. Nil leaves one as it is.
type Change struct {
	Speed *int64 // bytes a second
	Hours *string
}

// Set changes the speed limit and the hours of a job that has not ended, also while it runs. Nil leaves one as it is.
func (q *Queue) Set(ctx context.Context, id string, change Change) (Job, error) {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return Job{}, err
	}
	if change.Speed != nil {
		j.Speed = *change.Speed
	}
	if change.Hours != nil {
		j.Hours = *change.Hours
	}
	if j.Speed < 0 {
		return Job{}, fmt.Errorf("%w: a limit is 0, for none, or more", records.ErrInvalid)
	}
	if err := checkHours(j.Hours); err != nil {
		return Job{}, err
	}
	if err := q.records.SetJob(ctx, j.ID, j.Speed, j.Hours); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("%w: job %s has ended (%s)", records.ErrState, id, j.State)
		}
		return Job{}, err
	}
	q.mu.Lock()
	if r, ok := q.running[j.ID]; ok {
		r.hours = j.Hours
		r.meter.SetLimit(rateOf(j.Speed))
	}
	q.mu.Unlock()
	q.changed(j.ID)
	q.dispatch()
	return q.Job(ctx, id)
}

// FreeLeases frees those that a job left over. One that has not ended keeps them.
func (q *Queue) FreeLeases(ctx context.Context, id string) error {
	j, err := q.records.JobByName(ctx, id)
	if err != nil {
		return err
	}
	if !j.State.Ended() {
		return fmt.Errorf("%w: job %s is %s and needs its files: cancel it, which frees them", records.ErrState, id, j.State)
	}
	if err := q.records.FreeLeases(ctx, j.ID); err != nil {
		return fmt.Errorf("job %s holds nothing: %w", id, err)
	}
	q.dispatch()
	return nil
}
