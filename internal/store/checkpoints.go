package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"bagaglio/core/step"

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

var _ step.Records = Checkpoints{}

// Load returns the journal that was kept last, or nil.
func (c Checkpoints) Load(ctx context.Context) (*step.Journal, error) {
	var b string
	err := c.store.db.GetContext(ctx, &b, `SELECT state FROM checkpoints WHERE job = ?`, c.job)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	j := &step.Journal{}
	if err := json.Unmarshal([]byte(b), j); err != nil {
		return nil, fmt.Errorf("reading the checkpoint of job %d: %w", c.job, err)
	}
	return j, nil
}

// Keep keeps a journal, and with it a mark of one of its steps.
func (c Checkpoints) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	return c.write(ctx, j, func(tx *sqlx.Tx) error {
		if mark == nil {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO marks (job, stage, mark) VALUES (?, ?, ?)`, c.job, mark.Step, mark.Mark)
		return err
	})
}

// write writes a journal, and does something more, for whoever has the claim.
func (c Checkpoints) write(ctx context.Context, j step.Journal, more func(*sqlx.Tx) error) error {
	b, err := json.Marshal(j)
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
		if err != nil {
			return err
		}
		return more(tx)
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

// Forget drops the marks of the steps of a subject.
func (c Checkpoints) Forget(ctx context.Context, subject string, j step.Journal) error {
	return c.write(ctx, j, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM marks WHERE job = ? AND stage LIKE ? || '.%'`, c.job, subject)
		return err
	})
}
