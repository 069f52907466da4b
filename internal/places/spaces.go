package places

import (
	"context"
	"fmt"
	"sync"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/store"
)

const (
	// spaceFor is for how long what a host said of the room in a pool is believed, and spaceIn for how long whoever wants to know waits for
	// a host that does not answer at once.
	spaceFor, spaceIn = 3 * time.Second, 2 * time.Second
)

// spaces are how much room pools on other hosts have, as far as that is known: nobody waits long for a host that does not answer.
type spaces struct {
	mu    sync.Mutex
	known map[string]*space
}

type space struct {
	asked time.Time
	done  chan struct{} // closed with the answer
	storage.Space
	err error
}

// ask has somebody find out what is not known, or not any more, and returns the question.
func (s *spaces) ask(pool string, find func() (storage.Space, error)) *space {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.known[pool]
	if old != nil {
		select {
		case <-old.done:
			if time.Since(old.asked) < spaceFor {
				return old
			}
		default:
			return old // it is being asked
		}
	}
	x := &space{asked: time.Now(), done: make(chan struct{})}
	if s.known == nil {
		s.known = map[string]*space{}
	}
	s.known[pool] = x
	go func() {
		defer close(x.done)
		x.Space, x.err = find()
	}()
	return x
}

func (s *spaces) forget(pool string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.known, pool)
}

func (s *Places) asker(r store.Pool) func() (storage.Space, error) {
	return func() (storage.Space, error) {
		folder, err := s.Open(context.Background(), r)
		if err != nil {
			return storage.Space{}, err
		}
		return folder.Space()
	}
}

// Space tells how much room a pool has. Of the service's own computer that is always fresh.
func (s *Places) Space(r store.Pool) (storage.Space, error) {
	if r.Host == LocalHost {
		return s.asker(r)()
	}
	x := s.spaces.ask(r.Name, s.asker(r))
	select {
	case <-x.done:
		return x.Space, x.err
	case <-time.After(spaceIn):
		return storage.Space{}, fmt.Errorf("%w: the host %s of pool %s has not answered yet", storage.ErrLost, r.Host, r.Name)
	}
}
