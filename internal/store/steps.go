package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/jmoiron/sqlx"
)

// BeginStep notes that the step of that number runs, and that those before it are finished.
func (s *Store) BeginStep(ctx context.Context, id int64, number int, now time.Time) error {
	_, err := s.writer.ExecContext(
		ctx,
		`UPDATE steps SET finished = ? WHERE job = ? AND number < ? AND finished IS NULL`,
		stamp(now),
		id,
		number,
	)
	if err != nil {
		return err
	}
	return s.one(ctx, `UPDATE steps SET started = ? WHERE job = ? AND number = ?`, stamp(now), id, number)
}

// EndSteps notes what finished steps took, and the progress of the job as it was at last; nil where there was none.
func (s *Store) EndSteps(ctx context.Context, id int64, done []receipt.Done, last *step.Progress, now time.Time) error {
	if len(done) == 0 && last == nil {
		return nil
	}
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, d := range done {
			_, err := tx.ExecContext(
				ctx,
				`UPDATE steps SET finished = coalesce(finished, ?), bytes = ? WHERE job = ? AND name = ?`,
				stamp(now),
				d.Bytes,
				id,
				d.Name,
			)
			if err != nil {
				return err
			}
		}
		if last == nil {
			return nil
		}
		b, err := json.Marshal(*last)
		if err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `UPDATE jobs SET last = ? WHERE id = ?`, string(b), id))
	})
}

// Speeds returns the median speed of the last times that steps ran between the same pools, or, where there were none, between any: in
// bytes a second, by the names of the steps. Pools may be empty.
func (s *Store) Speeds(ctx context.Context, from, to string) (map[string]float64, error) {
	speeds := map[string]float64{}
	for _, name := range []string{plan.StepFill, plan.StepProve, plan.StepVerify} {
		var rows []struct {
			Speed float64 `db:"speed"`
			Same  bool    `db:"same"`
		}
		err := s.db.SelectContext(ctx, &rows, `SELECT bytes / ((julianday(steps.finished) - julianday(steps.started)) * 86400.0) AS speed,
				coalesce(json_extract(plan, '$.request.source.pool'), '') = ? AND coalesce(json_extract(plan, '$.request.destination.pool'), '') = ? AS same
			FROM steps JOIN jobs ON jobs.id = steps.job
			WHERE steps.name = ? AND bytes > 16777216 AND steps.finished > steps.started AND steps.job > (SELECT max(id) FROM jobs) - 500 ORDER BY same DESC, steps.job DESC LIMIT 9`, from, to, name)
		if err != nil {
			return nil, err
		}
		var of []float64
		for _, r := range rows {
			if r.Same == rows[0].Same {
				of = append(of, r.Speed)
			}
		}
		if len(of) > 0 {
			slices.Sort(of)
			speeds[name] = of[len(of)/2]
		}
	}
	return speeds, nil
}
