package queue

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/step/machines"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

const (
	tendEvery  = time.Second
	clearEvery = 10 * time.Minute // what was held for long enough
	tryEvery   = 3 * time.Second  // whether the records can be written
	readEvery  = time.Minute      // what pools can do, where their storage has changed
	firstTry   = 2 * time.Second  // after trouble; each further pause is twice as long, up to lastTry
	lastTry    = time.Minute
	leastRoom  = 64 << 20 // bytes that have to be free for a job to go on that had no room
)

// trouble is what made a job pause.
type trouble struct {
	err   error
	tries int
	next  time.Time
}

// inTrouble notes that a job paused by itself. A pool whose storage went away is opened again by the next try.
func (q *Queue) inTrouble(j store.Job, err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	t := q.troubles[j.ID]
	t.err = err
	t.next = time.Now().Add(min(firstTry<<t.tries, lastTry))
	t.tries = min(t.tries+1, 10)
	q.troubles[j.ID] = t
	if storage.Full(err) || errors.Is(err, step.ErrBlocked) {
		return
	}
	for _, pool := range j.Plan.Pools() {
		q.places.LetGo(pool, q.used(pool, j.ID))
	}
}

// TryAgain has jobs that something in use stands in the way of try again at once: a machine has changed what it does.
func (q *Queue) TryAgain() {
	q.mu.Lock()
	defer q.mu.Unlock()
	for id, t := range q.troubles {
		if errors.Is(t.err, step.ErrBlocked) {
			t.next = time.Now()
			q.troubles[id] = t
		}
	}
}

// used tells whether a job other than the one given works in a pool. The lock is held.
func (q *Queue) used(pool string, but int64) bool {
	for id, r := range q.running {
		if id != but && slices.Contains(r.scopes, scope{scopePool, pool}) {
			return true
		}
	}
	return false
}

// tend looks after the queue until the service closes: hours begin and end, troubles pass, what is held expires.
func (q *Queue) tend(done <-chan struct{}) {
	tick := time.NewTicker(tendEvery)
	defer tick.Stop()
	var cleared, read, tried, renewed, looked time.Time
	begin := time.Now()
	for {
		select {
		case <-done:
			return
		case now := <-tick.C:
			q.endHours(now)
			if now.Sub(renewed) > store.ClaimFor/4 {
				renewed = now
				q.jobs.Go(q.renewClaims)
			}
			if now.Sub(tried) > tryEvery {
				tried = now
				q.jobs.Go(func() {
					if q.records.Try() { // jobs could not be started before
						q.dispatch()
					}
				})
			}
			q.passTroubles(now)
			q.goOn(func(j store.Job) bool { return !now.Before(j.Question.Until) })
			if now.Sub(read) > readEvery {
				read = now
				q.places.LookAround()
				q.jobs.Go(q.places.ReadFacts) // a host that does not answer holds nothing else up
				q.jobs.Go(func() { q.goOn(q.isMuch) })
			}
			if now.Sub(cleared) > clearEvery {
				cleared = now
				q.jobs.Go(func() { q.records.Archive(now) })
				if jumped(begin, now.Sub(begin), now.Round(0)) { // who knows what day it is
					q.log.Warn("the clock has jumped since the service was started: nothing that is held is removed until it is started again")
				} else {
					q.jobs.Go(func() { q.places.DropExpired(now) }) // a host that does not answer holds nothing else up
				}
			}
			if minute := now.Truncate(time.Minute); minute != looked { // hours begin on one
				looked = minute
				q.dispatch()
			}
		}
	}
}

// renewClaims keeps the claims on jobs that run. A job that somebody else has taken stops.
func (q *Queue) renewClaims() {
	q.mu.Lock()
	running := slices.Collect(maps.Values(q.running))
	q.mu.Unlock()
	for _, r := range running {
		if err := q.records.RenewClaim(context.Background(), r.claim, time.Now()); errors.Is(err, store.ErrOutdated) {
			r.stop(fmt.Errorf("%w (%w)", err, step.ErrSetAside))
		} else if err != nil {
			q.records.Wrote(err)
		}
	}
}

// jumped tells whether the clock on the wall shows another time than it should, so long after the beginning.
func jumped(begin time.Time, elapsed time.Duration, wall time.Time) bool {
	return wall.Sub(begin.Round(0).Add(elapsed)).Abs() > 5*time.Minute
}

func (q *Queue) endHours(now time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, r := range q.running {
		if !within(r.hours, now) {
			r.stop(errHours)
		}
	}
}

// passTroubles lets jobs go on whose trouble may be over.
func (q *Queue) passTroubles(now time.Time) {
	ctx := context.Background()
	jobs, err := q.records.Troubled(ctx)
	if err != nil {
		q.log.Error("looking for paused jobs", "error", err)
		return
	}
	passed := false
	for _, j := range jobs {
		q.mu.Lock()
		t := q.troubles[j.ID]
		q.mu.Unlock()
		if now.Before(t.next) && t.next.Sub(now) <= lastTry || !q.isOver(ctx, j, t) {
			continue
		}
		if err := q.records.SetAside(ctx, j.Claim(), store.Paused, store.Waiting, "", false); err != nil {
			q.log.Error("letting a job go on", "job", j.ID, "error", err)
			continue
		}
		q.records.NoteJob(ctx, j.ID, "goes on", "")
		q.changed(j.ID)
		passed = true
	}
	if passed {
		q.dispatch()
	}
}

// goOn lets jobs that ask go on by themselves when it is due.
func (q *Queue) goOn(due func(store.Job) bool) {
	ctx := context.Background()
	jobs, err := q.records.Asking(ctx)
	if err != nil {
		q.log.Error("looking for jobs that ask", "error", err)
		return
	}
	went := false
	for _, j := range jobs {
		if j.Question == nil || j.Question.Until.IsZero() || !due(j) {
			continue
		}
		if err := q.records.Answer(ctx, j.Claim(), ""); err != nil { // a person may have been first
			continue
		}
		q.records.NoteJob(ctx, j.ID, "goes on", "")
		q.changed(j.ID)
		went = true
	}
	if went {
		q.dispatch()
	}
}

// isMuch tells whether as much was written to a machine as its copy may be behind.
func (q *Queue) isMuch(j store.Job) bool {
	m := j.Plan.Machine
	if m == nil || m.KeepAfter == 0 {
		return false
	}
	b, err := q.behind(context.Background(), j)
	return err == nil && b.Bytes >= m.KeepAfter
}

// behind tells how far the copy of a machine is behind that a job keeps up to date.
func (q *Queue) behind(ctx context.Context, j store.Job) (machines.Behind, error) {
	journal, err := q.records.Checkpoints(j.Claim()).Load(ctx)
	if err != nil || journal == nil {
		return machines.Behind{}, err
	}
	return q.planner.BehindOf(ctx, *j.Plan.Machine, *journal)
}

// Behind tells how far the copy of a machine is behind; nil where a job keeps none.
func (q *Queue) Behind(ctx context.Context, j Job) *machines.Behind {
	if m := j.Plan.Machine; m == nil || m.KeepEvery == 0 || j.State != store.Asking {
		return nil
	}
	b, err := q.behind(ctx, j.Job)
	if err != nil { // its old host may be gone
		q.log.Debug("looking how far a copy is behind", "job", j.ID, "error", err)
	}
	if b.Of.IsZero() { // nothing is known of it
		return nil
	}
	return &b
}

// isOver tells whether it is worth another try.
func (q *Queue) isOver(ctx context.Context, j store.Job, t trouble) bool {
	journal, err := q.records.Checkpoints(j.Claim()).Load(ctx)
	if err != nil {
		return false
	}
	for _, d := range j.Plan.Bodies {
		at := d.Request.Destination
		if at == nil {
			at = &d.Request.Source
		}
		record, err := q.records.Pool(ctx, at.Pool)
		if err != nil {
			return true // the job ends with that
		}
		space, err := q.places.Space(record)
		if err != nil || !q.mayGoOn(journal, d, t, space) {
			return false
		}
	}
	return true
}

// mayGoOn tells whether the work on a disk is worth another try, as far as its storage goes.
func (q *Queue) mayGoOn(journal *step.Journal, d plan.Disk, t trouble, space storage.Space) bool {
	var state disks.State
	known := false
	if journal != nil {
		var err error
		if known, err = state.Load(journal, d.ID); err != nil {
			return true // the job ends with that
		}
	}
	if d.After == nil { // nothing is written
		return !space.ReadOnly
	}
	if !known {
		return enough(space, leastRoom)
	}
	if t.err == nil || storage.Full(t.err) { // after a restart nothing is known any more
		left := d.After.AllocatedSize - state.Receipt.BytesWritten
		return enough(space, min(max(left, 0), leastRoom))
	}
	return !space.ReadOnly && space.ID == state.Storage
}

// enough tells whether more than so many bytes are free, as far as is known.
func enough(s storage.Space, n int64) bool { return s.Free > n || s.Free == storage.Unknown }

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
		waiting, err := q.records.Waiting(ctx, 0, 1)
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
