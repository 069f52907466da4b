package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/api"
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
func (s *Service) inTrouble(j store.Job, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := s.troubles[j.ID]
	t.err = err
	t.next = time.Now().Add(min(firstTry<<t.tries, lastTry))
	t.tries = min(t.tries+1, 10)
	s.troubles[j.ID] = t
	if storage.Full(err) || errors.Is(err, step.ErrBlocked) {
		return
	}
	for _, pool := range j.Plan.Pools() {
		f, ok := s.folders[pool]
		delete(s.folders, pool)
		if ok && !s.used(pool, j.ID) { // so that its storage can be taken away; otherwise the last job that ends lets go of it
			_ = f.Close()
		}
	}
}

// used tells whether a job other than the one given works in a pool. The lock is held.
func (s *Service) used(pool string, but int64) bool {
	for id, r := range s.running {
		if id != but && slices.Contains(r.scopes, scope{scopePool, pool}) {
			return true
		}
	}
	return false
}

// tend looks after the queue until the service closes: hours begin and end, troubles pass, what is held expires.
func (s *Service) tend(done <-chan struct{}) {
	tick := time.NewTicker(tendEvery)
	defer tick.Stop()
	var cleared, read, tried, renewed, looked time.Time
	begin := time.Now()
	for {
		select {
		case <-done:
			return
		case now := <-tick.C:
			s.endHours(now)
			if now.Sub(renewed) > store.ClaimFor/4 {
				renewed = now
				s.jobs.Go(s.renewClaims)
			}
			if now.Sub(tried) > tryEvery {
				tried = now
				s.jobs.Go(s.tryRecords)
			}
			s.passTroubles(now)
			if now.Sub(read) > readEvery {
				read = now
				s.lookAround()
				s.jobs.Go(s.readFacts) // a host that does not answer holds nothing else up
			}
			if now.Sub(cleared) > clearEvery {
				cleared = now
				s.jobs.Go(func() { s.archiveLog(now) })
				if jumped(begin, now.Sub(begin), now.Round(0)) { // who knows what day it is
					s.log.Warn("the clock has jumped since the service was started: nothing that is held is removed until it is started again")
				} else {
					s.jobs.Go(func() { s.dropExpired(now) }) // a host that does not answer holds nothing else up
				}
			}
			if minute := now.Truncate(time.Minute); minute != looked { // hours begin on one
				looked = minute
				s.dispatch()
			}
		}
	}
}

// renewClaims keeps the claims on jobs that run. A job that somebody else has taken stops.
func (s *Service) renewClaims() {
	s.mu.Lock()
	running := slices.Collect(maps.Values(s.running))
	s.mu.Unlock()
	for _, r := range running {
		if err := s.store.RenewClaim(context.Background(), r.claim, time.Now()); errors.Is(err, store.ErrOutdated) {
			r.stop(fmt.Errorf("%w (%w)", err, step.ErrSetAside))
		} else if err != nil {
			s.wrote(err)
		}
	}
}

// jumped tells whether the clock on the wall shows another time than it should, so long after the beginning.
func jumped(begin time.Time, elapsed time.Duration, wall time.Time) bool {
	return wall.Sub(begin.Round(0).Add(elapsed)).Abs() > 5*time.Minute
}

func (s *Service) endHours(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.running {
		if !within(r.hours, now) {
			r.stop(errHours)
		}
	}
}

// passTroubles lets jobs go on whose trouble may be over.
func (s *Service) passTroubles(now time.Time) {
	ctx := context.Background()
	jobs, err := s.store.Troubled(ctx)
	if err != nil {
		s.log.Error("looking for paused jobs", "error", err)
		return
	}
	passed := false
	for _, j := range jobs {
		s.mu.Lock()
		t := s.troubles[j.ID]
		s.mu.Unlock()
		if now.Before(t.next) && t.next.Sub(now) <= lastTry || !s.isOver(ctx, j, t) {
			continue
		}
		if err := s.store.SetAside(ctx, j.Claim(), store.Paused, store.Waiting, "", false); err != nil {
			s.log.Error("letting a job go on", "job", j.ID, "error", err)
			continue
		}
		s.noteJob(ctx, j.ID, "goes on", "")
		s.changed(j.ID)
		passed = true
	}
	if passed {
		s.dispatch()
	}
}

// isOver tells whether it is worth another try.
func (s *Service) isOver(ctx context.Context, j store.Job, t trouble) bool {
	journal, err := s.store.Checkpoints(j.Claim()).Load(ctx)
	if err != nil {
		return false
	}
	for _, d := range j.Plan.Bodies {
		record, err := s.store.Pool(ctx, d.Request.Destination.Pool)
		if err != nil {
			return true // the job ends with that
		}
		space, err := s.space(record)
		if err != nil || !s.mayGoOn(journal, d, t, space) {
			return false
		}
	}
	return true
}

// mayGoOn tells whether the work on a disk is worth another try, as far as its storage goes.
func (s *Service) mayGoOn(journal *step.Journal, d plan.Disk, t trouble, space storage.Space) bool {
	var state disks.State
	known := false
	if journal != nil {
		var err error
		if known, err = state.Load(journal, d.ID); err != nil {
			return true // the job ends with that
		}
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

func (s *Service) dropExpired(now time.Time) {
	ctx := context.Background()
	pools, err := s.store.Pools(ctx)
	if err != nil {
		s.log.Error("looking for what is held", "error", err)
		return
	}
	for _, p := range pools {
		if _, err := s.space(p); err != nil {
			continue // not connected
		}
		folder, err := s.open(ctx, p)
		if err != nil {
			continue // not connected
		}
		dropped, err := disks.DropExpired(folder, now)
		for _, h := range dropped {
			s.note(ctx, store.Event{Who: byService, What: "removed what was held for long enough", Subject: p.Name + ":" + h.Path})
		}
		if err != nil {
			s.log.Warn("removing what was held for long enough", "pool", p.Name, "error", err)
		}
	}
}

// Pause stops a job so that it can go on later.
func (s *Service) Pause(ctx context.Context, id string) (api.Job, error) {
	s.dispatching.Lock() // no job is between waiting and running now
	defer s.dispatching.Unlock()
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	s.mu.Lock()
	r, running := s.running[j.ID]
	if running {
		r.stop(errPaused)
	}
	s.mu.Unlock()
	if !running {
		from := j.State
		if from != store.Waiting && (from != store.Paused || !j.Trouble) {
			return api.Job{}, fmt.Errorf("%w: job %s is %s", ErrState, id, from)
		}
		if err := s.store.SetAside(ctx, j.Claim(), from, store.Paused, "paused on request", false); err != nil {
			return api.Job{}, fmt.Errorf("%w: job %s changed meanwhile: try again", ErrState, id)
		}
		s.changed(j.ID)
	}
	return s.Job(ctx, id)
}

// Answer lets a job that asks go on with an answer.
func (s *Service) Answer(ctx context.Context, id, name string) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	if j.State != store.Asking {
		return api.Job{}, fmt.Errorf("%w: job %s is %s and asks nothing", ErrState, id, j.State)
	}
	if !j.Question.Has(name) {
		var names []string
		for _, c := range j.Question.Answers {
			names = append(names, c.Name)
		}
		return api.Job{}, fmt.Errorf("%w: %q is no answer to what job %s asks: answer %s", ErrInvalid, name, id, strings.Join(names, " or "))
	}
	if err := s.store.Answer(ctx, j.Claim(), name); err != nil {
		if errors.Is(err, store.ErrNotFound) { // somebody else was first
			err = fmt.Errorf("%w: job %s asks nothing any more", ErrState, id)
		}
		return api.Job{}, err
	}
	s.noteJob(ctx, j.ID, "answered", name)
	s.changed(j.ID)
	s.dispatch()
	return s.Job(ctx, id)
}

// Resume lets a paused job go on.
func (s *Service) Resume(ctx context.Context, id string) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	if err := s.store.SetAside(ctx, j.Claim(), store.Paused, store.Waiting, "", false); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("%w: job %s is %s, not paused", ErrState, id, j.State)
		}
		return api.Job{}, err
	}
	s.changed(j.ID)
	s.dispatch()
	return s.Job(ctx, id)
}

// Move changes the place of a waiting job in the queue: before another one, or behind all.
func (s *Service) Move(ctx context.Context, id, before string) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	other := int64(0)
	if before == first {
		waiting, err := s.store.Waiting(ctx, 0, 1)
		if err != nil {
			return api.Job{}, err
		}
		if len(waiting) > 0 {
			other = waiting[0].ID
		}
	} else if before != "" {
		o, err := s.job(ctx, before)
		if err != nil {
			return api.Job{}, err
		}
		other = o.ID
	}
	if other != j.ID {
		if err := s.store.MoveJob(ctx, j.ID, other); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				err = fmt.Errorf("%w: only jobs that wait have a place in the queue", ErrState)
			}
			return api.Job{}, err
		}
	}
	s.changed(j.ID)
	return s.Job(ctx, id)
}

// first stands for the job that is first in the queue.
const first = "first"

// Set changes the speed limit and the hours of a job that has not ended, also while it runs. Nil leaves one as it is.
func (s *Service) Set(ctx context.Context, id string, change api.JobChange) (api.Job, error) {
	j, err := s.job(ctx, id)
	if err != nil {
		return api.Job{}, err
	}
	if change.Speed != nil {
		j.Speed = *change.Speed
	}
	if change.Hours != nil {
		j.Hours = *change.Hours
	}
	if j.Speed < 0 {
		return api.Job{}, fmt.Errorf("%w: a limit is 0, for none, or more", ErrInvalid)
	}
	if err := checkHours(j.Hours); err != nil {
		return api.Job{}, err
	}
	if err := s.store.SetJob(ctx, j.ID, j.Speed, j.Hours); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("%w: job %s has ended (%s)", ErrState, id, j.State)
		}
		return api.Job{}, err
	}
	s.mu.Lock()
	if r, ok := s.running[j.ID]; ok {
		r.hours = j.Hours
		r.meter.SetLimit(rateOf(j.Speed))
	}
	s.mu.Unlock()
	s.changed(j.ID)
	s.dispatch()
	return s.Job(ctx, id)
}

// Leases returns who uses which files.
func (s *Service) Leases(ctx context.Context) ([]api.Lease, error) {
	leases, err := s.store.Leases(ctx)
	out := []api.Lease{}
	for _, l := range leases {
		since, err := time.Parse(time.RFC3339Nano, l.Since)
		if err != nil {
			return nil, err
		}
		out = append(
			out,
			api.Lease{File: l.File, Job: strconv.FormatInt(l.Job, 10), Writes: l.Writes, Since: since, State: api.JobState(l.State)},
		)
	}
	return out, err
}

// FreeLeases frees those that a job left over. One that has not ended keeps them.
func (s *Service) FreeLeases(ctx context.Context, id string) error {
	j, err := s.job(ctx, id)
	if err != nil {
		return err
	}
	if !j.State.Ended() {
		return fmt.Errorf("%w: job %s is %s and needs its files: cancel it, which frees them", ErrState, id, j.State)
	}
	if err := s.store.FreeLeases(ctx, j.ID); err != nil {
		return fmt.Errorf("job %s holds nothing: %w", id, err)
	}
	s.dispatch()
	return nil
}
