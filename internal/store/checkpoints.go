package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"bagaglio/core/job"

	"github.com/jmoiron/sqlx"
)

// Checkpoints keep how far one job is, for whoever has the claim on it.
type Checkpoints struct {
	store *Store
	claim Claim
	job   int64
}

// Checkpoints returns those of a job. They can be read without a good claim.
func (s *Store) Checkpoints(c Claim) Checkpoints { return Checkpoints{s, c, c.Job} }

var _ job.Records = Checkpoints{}

// Load returns the state that was kept last, or nil.
func (c Checkpoints) Load(ctx context.Context) (*job.State, error) {
	var b string
	err := c.store.db.GetContext(ctx, &b, `SELECT state FROM checkpoints WHERE job = ?`, c.job)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s := &job.State{}
	if err := json.Unmarshal([]byte(b), s); err != nil {
		return nil, fmt.Errorf("reading the checkpoint of job %d: %w", c.job, err)
	}
	return s, nil
}

// Keep keeps a state, and with it a mark of its step.
func (c Checkpoints) Keep(ctx context.Context, s job.State, mark []byte) error {
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return c.store.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := c.claim.holds(ctx, tx, time.Now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO checkpoints (job, state) VALUES (?, ?) ON CONFLICT (job) DO UPDATE SET state = excluded.state`,
			c.job,
			string(b),
		)
		if err == nil && mark != nil {
			_, err = tx.ExecContext(ctx, `INSERT INTO marks (job, stage, mark) VALUES (?, ?, ?)`, c.job, s.Step, mark)
		}
		return err
	})
}

// Marks yields those of a step in their order.
func (c Checkpoints) Marks(ctx context.Context, step string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		last := int64(0)
		for {
			var row struct {
				Number int64  `db:"number"`
				Mark   []byte `db:"mark"`
			}
			err := c.store.db.GetContext(
				ctx,
				&row,
				`SELECT number, mark FROM marks WHERE job = ? AND stage = ? AND number > ? ORDER BY number LIMIT 1`,
				c.job,
				step,
				last,
			)
			if errors.Is(err, sql.ErrNoRows) {
				return
			}
			if !yield(row.Mark, err) || err != nil {
				return
			}
			last = row.Number
		}
	}
}

// Forget drops all that was kept.
func (c Checkpoints) Forget(ctx context.Context) error {
	return c.store.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := c.claim.holds(ctx, tx, time.Now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM marks WHERE job = ?`, c.job)
		if err == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM checkpoints WHERE job = ?`, c.job)
		}
		return err
	})
}
