package queue

import (
	"context"
	"iter"

	"bagaglio/internal/store"
)

// Follow yields the states of jobs as they change until ctx ends or the service stops: first those that have not ended, or the named job.
func (q *Queue) Follow(ctx context.Context, job string) (iter.Seq[Job], error) {
	f := q.feed.Follow(job) // before looking, so that nothing falls in between
	first, err := q.open(ctx, job)
	if err != nil {
		f.Stop()
		return nil, err
	}
	return func(yield func(Job) bool) {
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
			var jobs []Job
			jobs, more = f.Take()
			for _, j := range jobs {
				if !yield(j) {
					return
				}
			}
		}
	}, nil
}

// open returns the named job, or all that have not ended.
func (q *Queue) open(ctx context.Context, job string) ([]Job, error) {
	if job != "" {
		j, err := q.Job(ctx, job)
		return []Job{j}, err
	}
	var open []store.Job
	for _, state := range store.Unended() {
		jobs, err := q.records.JobsIn(ctx, state)
		if err != nil {
			return nil, err
		}
		open = append(open, jobs...)
	}
	return q.present(open), nil
}
