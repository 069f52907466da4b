// Package feed passes the present state of things to whoever follows them. A follower that is slow misses states in between, never the last one.
package feed

import "sync"

// Feed is of things of one type, each with a key. Its zero value is ready.
type Feed[T any] struct {
	mu        sync.Mutex
	followers map[*Follower[T]]struct{}
	closed    bool
}

// Follower gets what is new of one thing, or of all.
type Follower[T any] struct {
	feed   *Feed[T]
	key    string // empty for all
	wake   chan struct{}
	latest map[string]T
	order  []string
}

// Publish tells all followers of a thing's state.
func (f *Feed[T]) Publish(key string, state T) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for x := range f.followers {
		if x.key != "" && x.key != key {
			continue
		}
		if _, ok := x.latest[key]; !ok {
			x.order = append(x.order, key)
		}
		x.latest[key] = state
		x.signal()
	}
}

func (x *Follower[T]) signal() {
	select {
	case x.wake <- struct{}{}:
	default:
	}
}

// Follow begins to follow a thing, or all when key is empty. The caller ends it with Stop.
func (f *Feed[T]) Follow(key string) *Follower[T] {
	x := &Follower[T]{feed: f, key: key, wake: make(chan struct{}, 1), latest: map[string]T{}}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.followers == nil {
		f.followers = map[*Follower[T]]struct{}{}
	}
	f.followers[x] = struct{}{}
	if f.closed {
		x.signal()
	}
	return x
}

// Follows tells whether anybody follows a thing.
func (f *Feed[T]) Follows(key string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for x := range f.followers {
		if x.key == "" || x.key == key {
			return true
		}
	}
	return false
}

// Stop ends it.
func (x *Follower[T]) Stop() {
	x.feed.mu.Lock()
	defer x.feed.mu.Unlock()
	delete(x.feed.followers, x)
}

// News is signalled when there is something to take, or the feed has ended.
func (x *Follower[T]) News() <-chan struct{} { return x.wake }

// Take returns what is new, in the order in which it first changed, and whether more may come.
func (x *Follower[T]) Take() (states []T, more bool) {
	x.feed.mu.Lock()
	defer x.feed.mu.Unlock()
	for _, key := range x.order {
		states = append(states, x.latest[key])
	}
	clear(x.latest)
	x.order = nil
	return states, !x.feed.closed
}

// Close ends the feed: followers take what is there, and are told that no more comes.
func (f *Feed[T]) Close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for x := range f.followers {
		x.signal()
	}
}
