package service

import (
	"context"
	"iter"
	"sync"

	"bagaglio/api"
	"bagaglio/internal/store"
)

// broker passes the present state of jobs to whoever follows them. A follower that is slow misses states in between,
// never the last one.
type broker struct {
	mu        sync.Mutex
	followers map[*follower]struct{}
	closed    bool
}

type follower struct {
	job    string // empty for all
	wake   chan struct{}
	latest map[string]api.Job
	order  []string
}

// publish tells all followers of the job's state.
func (b *broker) publish(j api.Job) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for f := range b.followers {
		if f.job != "" && f.job != j.Id {
			continue
		}
		if _, ok := f.latest[j.Id]; !ok {
			f.order = append(f.order, j.Id)
		}
		f.latest[j.Id] = j
		f.signal()
	}
}

func (f *follower) signal() {
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

func (b *broker) add(job string) *follower {
	f := &follower{job: job, wake: make(chan struct{}, 1), latest: map[string]api.Job{}}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.followers == nil {
		b.followers = map[*follower]struct{}{}
	}
	b.followers[f] = struct{}{}
	if b.closed {
		f.signal()
	}
	return f
}

func (b *broker) remove(f *follower) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.followers, f)
}

// take returns what is new for a follower, and whether more may come.
func (b *broker) take(f *follower) (jobs []api.Job, more bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, id := range f.order {
		jobs = append(jobs, f.latest[id])
	}
	clear(f.latest)
	f.order = nil
	return jobs, !b.closed
}

// close ends all streams once they have delivered what is there.
func (b *broker) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed = true
	for f := range b.followers {
		f.signal()
	}
}

// Follow yields the states of jobs as they change until ctx ends or the service stops: first those that have not ended, or the named job.
func (s *Service) Follow(ctx context.Context, job string) (iter.Seq[api.Job], error) {
	f := s.events.add(job) // before looking, so that nothing falls in between
	first, err := s.present(ctx, job)
	if err != nil {
		s.events.remove(f)
		return nil, err
	}
	return func(yield func(api.Job) bool) {
		defer s.events.remove(f)
		for _, j := range first {
			if !yield(j) {
				return
			}
		}
		for more := true; more; {
			select {
			case <-f.wake:
			case <-ctx.Done():
				return
			}
			var jobs []api.Job
			jobs, more = s.events.take(f)
			for _, j := range jobs {
				if !yield(j) {
					return
				}
			}
		}
	}, nil
}

// present returns the named job, or all that have not ended.
func (s *Service) present(ctx context.Context, job string) ([]api.Job, error) {
	if job != "" {
		j, err := s.Job(ctx, job)
		return []api.Job{j}, err
	}
	var open []api.Job
	for _, state := range []store.State{store.Running, store.Waiting, store.Paused} {
		jobs, err := s.store.JobsIn(ctx, state)
		if err != nil {
			return nil, err
		}
		for _, j := range jobs {
			open = append(open, s.view(j))
		}
	}
	return open, nil
}
