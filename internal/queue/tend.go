package queue

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
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

// Reached has jobs that waited for storage which was away try again at once: somebody has connected.
func (q *Queue) Reached() {
	q.mu.Lock()
	defer q.mu.Unlock()
	for id, t := range q.troubles {
		if storage.Lost(t.err) {
			t.next, t.tries = time.Now(), 0
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
		if err != nil || !q.mayGoOn(journal, j.Plan.Porter, d, t, space) {
			return false
		}
	}
	return true
}

// mayGoOn tells whether the work on a disk is worth another try, as far as its storage goes. What a porter calls its storage is not what that is called from here.
func (q *Queue) mayGoOn(journal *step.Journal, porter string, d plan.Disk, t trouble, space storage.Space) bool {
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
	return !space.ReadOnly && (porter != "" || space.ID == state.Storage)
}

// enough tells whether more than so many bytes are free, as far as is known.
func enough(s storage.Space, n int64) bool { return s.Free > n || s.Free == storage.Unknown }
