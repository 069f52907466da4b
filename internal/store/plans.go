package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"bagaglio/core/plan"
)

// keepPlans is for how long a plan is kept: it is made for now.
const keepPlans = 24 * time.Hour

// AddPlan keeps a plan as it is shown, so that it can be started.
func (s *Store) AddPlan(ctx context.Context, id string, p plan.Plan, now time.Time) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = s.writer.ExecContext(ctx, `DELETE FROM plans WHERE created < ?`, stamp(now.Add(-keepPlans)))
	if err == nil {
		_, err = s.writer.ExecContext(ctx, `INSERT INTO plans (id, created, plan) VALUES (?, ?, ?)`, id, stamp(now), string(b))
	}
	return err
}

// KeptPlan returns a plan, and the number of the job that was started with it, 0 before. It fails with ErrNotFound.
func (s *Store) KeptPlan(ctx context.Context, id string) (p plan.Plan, job int64, err error) {
	var row struct {
		Plan string        `db:"plan"`
		Job  sql.NullInt64 `db:"job"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT plan, job FROM plans WHERE id = ?`, id); err != nil {
		return p, 0, notFound(err)
	}
	return p, row.Job.Int64, json.Unmarshal([]byte(row.Plan), &p)
}
