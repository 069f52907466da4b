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

// thing is what rounds go through.
type thing struct {
	now, next, last *Round
}

// Round is one time of looking through something. Ended and Err hold when it has ended.
type Round struct {
	Began, Ended time.Time
	Err          error

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

// Want has a round begin that sees all that is there now: at once, or when the one that is under way has ended.
func (r *Rounds) Want(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.want(name)
}

// want returns that round. The lock is held.
func (r *Rounds) want(name string) *Round {
	t := r.things[name]
	if t == nil {
		t = &thing{}
		r.things[name] = t
	}
	if t.next != nil {
		return t.next
	}
	n := &Round{done: make(chan struct{})}
	n.ctx, n.cancel = context.WithCancelCause(r.ctx)
	if t.now != nil {
		t.next = n
	} else {
		r.begin(name, t, n)
	}
	return n
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
	next := t.next
	t.now, t.next, t.last = nil, nil, n
	close(n.done)
	if next != nil {
		r.begin(name, t, next)
	}
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
	return r.want(name)
}

// Last returns the round that ended last, if one has, and since when one is under way, or the zero time.
func (r *Rounds) Last(name string) (last Round, ok bool, since time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.things[name]
	if t == nil {
		return Round{}, false, time.Time{}
	}
	if t.now != nil {
		since = t.now.Began
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
