package service

import (
	"context"
	"iter"

	"bagaglio/api"
	"bagaglio/internal/store"
)

// Follow yields the states of jobs as they change until ctx ends or the service stops: first those that have not ended, or the named job.
func (s *Service) Follow(ctx context.Context, job string) (iter.Seq[api.Job], error) {
	f := s.feed.Follow(job) // before looking, so that nothing falls in between
	first, err := s.present(ctx, job)
	if err != nil {
		f.Stop()
		return nil, err
	}
	return func(yield func(api.Job) bool) {
		defer f.Stop()
		for _, j := range first {
			if !yield(j) {
				return
			}
		}
		for more := true; more; {
			select {
			case <-f.News():
			case <-ctx.Done():
				return
			}
			var jobs []api.Job
			jobs, more = f.Take()
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
		j.Plan = nil // as in all news
		return []api.Job{j}, err
	}
	var open []api.Job
	for _, state := range store.Unended() {
		jobs, err := s.store.JobsIn(ctx, state)
		if err != nil {
			return nil, err
		}
		for _, j := range jobs {
			open = append(open, s.summary(j))
		}
	}
	return open, nil
}
