// Package rounds has things looked through in the background: many at once, and one never twice at the same time.
package rounds

import (
	"context"
	"errors"
	"sync"
	"time"
)

// ErrCancelled is the error of a round that somebody ended.
var ErrCancelled = errors.New("it was asked not to be looked through any further")

// Rounds look through things by name. Make them with [New].
type Rounds struct {
	look func(ctx context.Context, name string) error
	ctx  context.Context
	stop context.CancelFunc
	busy sync.WaitGroup

	mu     sync.Mutex
	things map[string]*thing
	closed bool
}

// thing is what rounds go through. One that is next waits for the one that is under way, or for the thing to have rested.
type thing struct {
	now, next, last *Round
}

// A round that nobody waits for begins when the thing was left alone for rests times as long as the last one took, and at most longestRest: what changes all the time
// is not looked through all the time.
const (
	rests       = 4
	longestRest = 30 * time.Second
)

// rest is for how long the thing is to be left alone yet.
func (t *thing) rest() time.Duration {
	if t.last == nil || t.last.Err != nil {
		return 0
	}
	return min(rests*t.last.Ended.Sub(t.last.Began), longestRest) - time.Since(t.last.Ended)
}

// Round is one time of looking through something. Ended and Err hold when it has ended.
type Round struct {
	Began, Ended time.Time
	Err          error

	wanted time.Time
	hurry  bool // somebody waits for it
	rests  bool // a timer sees to it
	ctx    context.Context
	cancel context.CancelCauseFunc
	done   chan struct{}
}

// New returns rounds that look through things with look.
func New(look func(ctx context.Context, name string) error) *Rounds {
	r := &Rounds{look: look, things: map[string]*thing{}}
	r.ctx, r.stop = context.WithCancel(context.Background())
	return r
}

// Close ends all rounds, and returns when they have ended.
func (r *Rounds) Close() {
	r.mu.Lock()
	r.closed = true
	r.mu.Unlock()
	r.stop()
	r.busy.Wait()
}

// Want has a round begin that sees all that is there now: soon, or when the one that is under way has ended.
func (r *Rounds) Want(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.want(name, false)
}

// want returns that round. The lock is held.
func (r *Rounds) want(name string, hurry bool) *Round {
	t := r.things[name]
	if t == nil {
		t = &thing{}
		r.things[name] = t
	}
	n := t.next
	if n == nil {
		n = &Round{done: make(chan struct{}), wanted: time.Now()}
		n.ctx, n.cancel = context.WithCancelCause(r.ctx)
		t.next = n
	}
	n.hurry = n.hurry || hurry
	r.proceed(name, t)
	return n
}

// proceed has the next round begin, when it may. The lock is held.
func (r *Rounds) proceed(name string, t *thing) {
	n := t.next
	if n == nil || t.now != nil {
		return
	}
	wait := t.rest()
	if wait <= 0 || n.hurry || r.closed {
		t.next = nil
		r.begin(name, t, n)
		return
	}
	if n.rests {
		return
	}
	n.rests = true
	time.AfterFunc(wait, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		n.rests = false
		if t.next == n && r.things[name] == t { // it has not begun meanwhile, and is not forgotten
			r.proceed(name, t)
		}
	})
}

// begin has a round begin. The lock is held.
func (r *Rounds) begin(name string, t *thing, n *Round) {
	t.now, n.Began = n, time.Now()
	if r.closed {
		r.end(name, t, n, context.Canceled)
		return
	}
	r.busy.Go(func() {
		err := r.look(n.ctx, name)
		if err != nil && n.ctx.Err() != nil {
			err = context.Cause(n.ctx)
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.end(name, t, n, err)
	})
}

// end notes that a round has ended. The lock is held.
func (r *Rounds) end(name string, t *thing, n *Round, err error) {
	n.Ended, n.Err = time.Now(), err
	n.cancel(nil)
	t.now, t.last = nil, n
	close(n.done)
	r.proceed(name, t)
}

// After returns the outcome of a round that began at that time or later, and waits for it until ctx ends.
func (r *Rounds) After(ctx context.Context, name string, since time.Time) (Round, error) {
	r.mu.Lock()
	n := r.after(name, since)
	r.mu.Unlock()
	select {
	case <-n.done:
		return *n, n.Err
	case <-ctx.Done():
		return Round{}, context.Cause(ctx)
	}
}

func (r *Rounds) after(name string, since time.Time) *Round {
	if t := r.things[name]; t != nil {
		for _, n := range []*Round{t.last, t.now} {
			if n != nil && !n.Began.Before(since) && (n != t.last || n.Err == nil) {
				return n
			}
		}
	}
	return r.want(name, true)
}

// Last returns the round that ended last, if one has, and since when one is under way or wanted, or the zero time.
func (r *Rounds) Last(name string) (last Round, ok bool, since time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.things[name]
	if t == nil {
		return Round{}, false, time.Time{}
	}
	switch {
	case t.now != nil:
		since = t.now.Began
	case t.next != nil:
		since = t.next.wanted
	}
	if t.last == nil {
		return Round{}, false, since
	}
	return *t.last, true, since
}

// Cancel ends the round that is under way, and tells whether there was one.
func (r *Rounds) Cancel(name string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.things[name]
	if t == nil || t.now == nil {
		return false
	}
	t.now.cancel(ErrCancelled)
	return true
}

// Forget ends the round that is under way, and forgets those before.
func (r *Rounds) Forget(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if t := r.things[name]; t != nil && t.now != nil {
		t.now.cancel(ErrCancelled)
	}
	delete(r.things, name)
}
