package machines

import (
	"context"
	"sync"
	"time"

	"bagaglio/core/host"
	"bagaglio/internal/store"
)

// followEvery is how often it is looked which hosts there are, and how long one is left alone that cannot be followed.
const followEvery = 10 * time.Second

// Follow has all hosts that can tell when their machines change, until ctx ends. What is known of them is asked anew then, and changed is called.
func (m *Machines) Follow(ctx context.Context, changed func()) {
	var all sync.WaitGroup
	defer all.Wait()
	followed := map[store.Runs]context.CancelFunc{}
	for {
		hosts, err := m.records.Running(ctx)
		there := map[store.Runs]bool{}
		for _, h := range hosts {
			there[h] = true
			if followed[h] != nil {
				continue
			}
			one, stop := context.WithCancel(ctx)
			followed[h] = stop
			all.Go(func() { m.follow(one, h.Host, changed) })
		}
		for h, stop := range followed {
			if err == nil && !there[h] { // it is not known any more, or is another one
				stop()
				delete(followed, h)
			}
		}
		select {
		case <-ctx.Done():
			for _, stop := range followed {
				stop()
			}
			return
		case <-time.After(followEvery):
		}
	}
}

// follow follows one host, again and again, until ctx ends.
func (m *Machines) follow(ctx context.Context, name string, changed func()) {
	for ctx.Err() == nil {
		h, err := m.on(ctx, name)
		if err == nil {
			f, ok := h.(host.Follower)
			if !ok {
				return
			}
			err = f.Follow(ctx, func() { m.forget(name); changed() })
		}
		if err == nil {
			continue
		}
		select { // it is asked when something has to be known, in any case
		case <-ctx.Done():
		case <-time.After(followEvery):
		}
	}
}
