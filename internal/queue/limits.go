package queue

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"golang.org/x/time/rate"
)

// atOnce is how many jobs run at the same time where no limit was set: of those that the service does itself, and for each host, pool and device.
const atOnce = 2

// Scopes of limits.
const (
	scopeService = "service"
	scopeHost    = "host"
	scopePool    = "pool"
	scopeDevice  = "device"
)

// scope is something that has a limit. A device is what a filesystem lies on, by its identity.
type scope struct{ kind, name string }

func (s scope) String() string {
	if s.kind == scopeService {
		return "the service"
	}
	return "the " + s.kind + " " + s.name
}

// limits are those that were set, and what meters the speeds.
type limits struct {
	set    map[scope]store.Limit
	meters map[scope]*rate.Limiter
}

// scopesOf returns everything whose limits hold for a job.
func (q *Queue) scopesOf(j store.Job, pools func(string) (store.Pool, error)) []scope {
	var scopes []scope
	if j.Plan.Porter == "" || q.isSet(scope{scopeService, ""}) { // the usual one of the service is for what it does itself
		scopes = append(scopes, scope{scopeService, ""})
	}
	add := func(x scope) {
		for _, have := range scopes {
			if have == x {
				return
			}
		}
		scopes = append(scopes, x)
	}
	for _, pool := range j.Plan.Pools() {
		add(scope{scopePool, pool})
		record, err := pools(pool)
		if err != nil { // the job itself will say so
			continue
		}
		add(scope{scopeHost, record.Host})
		if record.Host != places.LocalHost { // of another one the devices are not known, and its answer would be waited for
			continue
		}
		if space, err := q.places.Space(record); err == nil {
			add(scope{scopeDevice, space.ID})
		}
	}
	return scopes
}

// isSet tells whether somebody has set a limit.
func (q *Queue) isSet(x scope) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	_, set := q.limits.set[x]
	return set
}

// limitOf returns the limit of a scope: its own, or that of its kind, or none but the usual. The lock is held.
func (q *Queue) limitOf(x scope) store.Limit {
	for _, name := range []string{x.name, ""} {
		if l, ok := q.limits.set[scope{x.kind, name}]; ok {
			return l
		}
	}
	return store.Limit{Scope: x.kind, Name: x.name, Jobs: atOnce}
}

// full returns the scope that has as many jobs running as it may, if there is one. The lock is held.
func (q *Queue) full(scopes []scope) (scope, bool) {
	for _, x := range scopes {
		if l := q.limitOf(x); l.Jobs > 0 && q.counts[x] >= l.Jobs {
			return x, true
		}
	}
	return scope{}, false
}

// count notes that a job runs, or does so no more, in scopes. The lock is held.
func (q *Queue) count(scopes []scope, by int) {
	for _, x := range scopes {
		if q.counts[x] += by; q.counts[x] == 0 {
			delete(q.counts, x)
		}
	}
}

// meter returns what meters the speed of a scope. The lock is held.
func (q *Queue) meter(x scope) *rate.Limiter {
	m := q.limits.meters[x]
	if m == nil {
		m = rate.NewLimiter(rateOf(q.limitOf(x).Speed), burst)
		q.limits.meters[x] = m
	}
	return m
}

// burst is how many bytes a limit on the speed lets through at once.
const burst = 256 << 10

func rateOf(speed int64) rate.Limit {
	if speed <= 0 {
		return rate.Inf
	}
	return rate.Limit(speed)
}

// wait returns a function that waits until a job may read n more bytes, in pieces that take a second
// at most, so that a changed limit holds soon.
func (q *Queue) wait(r *run) func(context.Context, int64) error {
	q.mu.Lock()
	meters := []*rate.Limiter{r.meter}
	for _, x := range r.scopes {
		meters = append(meters, q.meter(x))
	}
	q.mu.Unlock()
	return func(ctx context.Context, n int64) error {
		if holds := q.options.Holds; holds != nil {
			if err := holds(); err != nil {
				return fmt.Errorf("%w: %w", storage.ErrLost, err)
			}
		}
		for _, m := range meters {
			for left := n; left > 0; {
				part := min(left, burst)
				if limit := m.Limit(); limit < burst {
					part = min(left, max(1, int64(limit)))
				}
				if err := m.WaitN(ctx, int(part)); err != nil {
					return context.Cause(ctx)
				}
				left -= part
			}
		}
		return nil
	}
}

// Limits returns those that hold: what was set, and the usual ones of the service and of each kind.
func (q *Queue) Limits(ctx context.Context) (out []store.Limit, err error) {
	q.mu.Lock()
	for _, kind := range []string{scopeService, scopeHost, scopePool, scopeDevice} {
		l := q.limitOf(scope{kind, ""})
		out = append(out, store.Limit{Scope: kind, Jobs: l.Jobs, Speed: l.Speed})
	}
	q.mu.Unlock()
	set, err := q.records.Limits(ctx)
	for _, l := range set {
		if l.Name != "" {
			out = append(out, l)
		}
	}
	return out, err
}

// Limit returns the one that holds for something: its own, or that of its kind, or the usual one.
func (q *Queue) Limit(kind, name string) store.Limit {
	q.mu.Lock()
	defer q.mu.Unlock()
	l := q.limitOf(scope{kind, name})
	return store.Limit{Scope: kind, Name: name, Jobs: l.Jobs, Speed: l.Speed}
}

// SetLimit changes a limit, also for jobs that run. More jobs than it allows go on.
func (q *Queue) SetLimit(ctx context.Context, l store.Limit) error {
	if l.Jobs < 0 || l.Speed < 0 {
		return fmt.Errorf("%w: a limit is 0, for none, or more", records.ErrInvalid)
	}
	if l.Name != "" && l.Scope == scopeService {
		return fmt.Errorf("%w: there is one service: its limit has no name", records.ErrInvalid)
	}
	if err := q.isThere(ctx, scope{l.Scope, l.Name}); err != nil {
		return err
	}
	if err := q.records.SetLimit(ctx, l); err != nil {
		return err
	}
	if err := q.loadLimits(ctx); err != nil {
		return err
	}
	q.dispatch()
	return nil
}

// isThere fails for a pool or host that is not known. Devices are known by the pools on them only, which may come and go.
func (q *Queue) isThere(ctx context.Context, x scope) (err error) {
	switch {
	case x.name == "":
	case x.kind == scopePool:
		_, err = q.places.Record(ctx, x.name)
	case x.kind == scopeHost && x.name != places.LocalHost:
		_, err = q.places.Host(ctx, x.name)
	}
	return err
}

// RemoveLimit removes a limit that was set: that of its kind holds again, or none but the usual.
func (q *Queue) RemoveLimit(ctx context.Context, kind, name string) error {
	if err := q.records.RemoveLimit(ctx, kind, name); err != nil {
		return fmt.Errorf("a limit of %s: %w", scope{kind, name}, err)
	}
	if err := q.loadLimits(ctx); err != nil {
		return err
	}
	q.dispatch()
	return nil
}

func (q *Queue) loadLimits(ctx context.Context) error {
	set, err := q.records.Limits(ctx)
	if err != nil {
		return err
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.limits.set = map[scope]store.Limit{}
	for _, l := range set {
		q.limits.set[scope{l.Scope, l.Name}] = l
	}
	for x, m := range q.limits.meters {
		m.SetLimit(rateOf(q.limitOf(x).Speed))
	}
	return nil
}

var hoursForm = regexp.MustCompile(`^([01]\d|2[0-3]):([0-5]\d)-([01]\d|2[0-3]):([0-5]\d)$`)

// checkHours fails for hours that make no sense. Empty are all.
func checkHours(hours string) error {
	if hours != "" && !hoursForm.MatchString(hours) {
		return fmt.Errorf("%w: hours %q: write them as 22:00-06:00", records.ErrInvalid, hours)
	}
	return nil
}

// within tells whether a time, in its own zone, lies in hours. Those that end before they begin last over midnight.
func within(hours string, now time.Time) bool {
	if hours == "" {
		return true
	}
	from, to, at := hours[:5], hours[6:], now.Format("15:04")
	if from <= to {
		return from <= at && at < to
	}
	return from <= at || at < to
}
