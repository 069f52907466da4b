package queue

import (
	"context"
	"iter"

	"bagaglio/core/step"
	"bagaglio/internal/records"
)

// patient are records of a job that wait until they can be written.
type patient struct {
	step.Records
	records *records.Records
}

func (p patient) Load(ctx context.Context) (j *step.Journal, err error) {
	err = p.records.Patiently(func() error {
		j, err = p.Records.Load(ctx)
		return err
	})
	return j, err
}

func (p patient) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	return p.records.Patiently(func() error { return p.Records.Keep(ctx, j, mark) })
}

func (p patient) Forget(ctx context.Context, subject string, j step.Journal) error {
	return p.records.Patiently(func() error { return p.Records.Forget(ctx, subject, j) })
}

// Marks are read again from the beginning where that was interrupted: those that were passed on are left out.
func (p patient) Marks(ctx context.Context, stage string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		passed, ended := 0, false
		err := p.records.Patiently(func() error {
			n := 0
			for mark, err := range p.Records.Marks(ctx, stage) {
				if err != nil {
					return err
				}
				if n++; n <= passed {
					continue
				}
				passed = n
				if ended = !yield(mark, nil); ended {
					return nil
				}
			}
			return nil
		})
		if err != nil && !ended {
			yield(nil, err)
		}
	}
}
