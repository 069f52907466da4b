package queue

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"golang.org/x/time/rate"
)

// page is how many waiting jobs are looked at together.
const page = 50

// Look starts jobs that had to wait for something which is free now, once this is known: a disk is not served any more, say.
func (q *Queue) Look() { q.jobs.Go(q.dispatch) }

// dispatch starts the waiting jobs that may run, in their order. Who asks for that while others do so waits for one look at the queue that begins behind all of them.
func (q *Queue) dispatch() {
	mine := q.asked.Add(1)
	q.dispatching.Lock()
	defer q.dispatching.Unlock()
	if q.looked >= mine {
		return
	}
	q.looked = q.asked.Load()
	q.look()
}

// dispatchOnce has the queue looked through, as dispatch does, and waits for that only where nobody else sees to it: of many jobs that end at the same time, one does.
func (q *Queue) dispatchOnce() {
	if q.ended.Add(1) > 1 {
		return
	}
	for {
		seen := q.ended.Load()
		q.dispatch()
		if q.ended.CompareAndSwap(seen, 0) {
			return
		}
	}
}

// look goes through the queue. The lock of dispatching is held.
func (q *Queue) look() {
	ctx := context.Background()
	porters := q.options.Porters != nil && q.options.Porters.Any(ctx) // whose jobs go on when the service has enough to do
	full, names := map[string]string{}, []string{}                    // by the pools of a job, so that a long queue is looked through fast
	defer func() {
		q.mu.Lock()
		q.enough = full
		q.mu.Unlock()
	}()
	for behind := store.BeforeAll; ; {
		waiting, err := q.records.Waiting(ctx, behind, names, page)
		if err != nil {
			q.log.Error("looking for waiting jobs", "error", err)
			return
		}
		for _, j := range waiting {
			behind = j.Rank
			q.mu.Lock()
			_, all := q.full([]scope{{scopeService, ""}})
			closing := q.closing
			q.mu.Unlock()
			if closing || all && (!porters || q.isSet(scope{scopeService, ""})) {
				return
			}
			pools := store.PoolsOf(j.Plan)
			if _, has := full[pools]; has {
				continue
			}
			why := q.tryStart(ctx, j)
			if errors.Is(why, errFull) {
				full[pools] = why.Error()
				names = append(names, pools)
			}
			if why != nil {
				q.setWaits(j.ID, why.Error())
			}
		}
		if len(waiting) < page {
			return
		}
	}
}

// tryStart starts a job, or says why it has to wait.
func (q *Queue) tryStart(ctx context.Context, j store.Job) error {
	if !within(j.Hours, time.Now()) {
		return fmt.Errorf("waits for its hours, %s", j.Hours)
	}
	if err := q.turn(ctx, j); err != nil {
		return err
	}
	pools := q.poolRecords(ctx)
	scopes := q.scopesOf(j, pools)
	q.mu.Lock()
	_, still := q.running[j.ID]
	x, full := q.full(scopes)
	q.mu.Unlock()
	if still { // its end calls dispatch again
		return errors.New("waits until it has been set aside")
	}
	if full {
		return fmt.Errorf("%w of %s to end", errFull, x)
	}
	leases, err := leasesOf(j, pools)
	if err != nil {
		return err
	}
	for _, l := range leases {
		if at := q.options.Serves(l.File); l.Writes && at != "" { // it would change under who reads it
			return fmt.Errorf("waits: %s is served at %s: it goes on when that has ended", l.File, at)
		}
	}
	claim, err := q.records.StartJob(ctx, j.ID, leases, q.runner, records.OfJob(j.ID, "started", ""), time.Now())
	if err != nil {
		var leased *store.LeasedError
		if errors.As(err, &leased) {
			return fmt.Errorf("waits: %w", err)
		}
		return err
	}
	j.Epoch = claim.Epoch
	runCtx, stop := context.WithCancelCause(context.Background())
	r := &run{claim: claim, stop: stop, scopes: scopes, hours: j.Hours, group: j.Group, meter: rate.NewLimiter(rateOf(j.Speed), burst)}
	q.mu.Lock()
	q.running[j.ID] = r
	q.count(scopes, 1)
	delete(q.waits, j.ID)
	q.mu.Unlock()
	q.jobs.Go(func() {
		defer stop(nil)
		q.run(runCtx, j, r)
		q.dispatchOnce()
	})
	return nil
}

// poolRecords reads what pools are, each once.
func (q *Queue) poolRecords(ctx context.Context) func(name string) (store.Pool, error) {
	known := map[string]store.Pool{}
	return func(name string) (r store.Pool, err error) {
		r, has := known[name]
		if !has {
			if r, err = q.places.Record(ctx, name); err == nil {
				known[name] = r
			}
		}
		return r, err
	}
}

// leasesOf are the files that a job uses, by host and path.
func leasesOf(j store.Job, pools func(string) (store.Pool, error)) ([]store.Lease, error) {
	var leases []store.Lease
	for _, u := range j.Plan.Uses() {
		pool, err := pools(u.Pool)
		if err != nil {
			return nil, fmt.Errorf("pool %q: %w", u.Pool, err)
		}
		leases = append(leases, store.Lease{File: places.LeaseOf(pool, u.Path), Writes: u.Writes})
	}
	return leases, nil
}

// setWaits notes why a job waits.
func (q *Queue) setWaits(id int64, why string) {
	q.mu.Lock()
	same := q.waits[id] == why
	q.waits[id] = why
	q.mu.Unlock()
	if !same {
		q.changed(id)
	}
}
