package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// ErrOutdated is the error for a runner of a job that somebody else runs by now, or whose claim has run out.
var ErrOutdated = errors.New("the job is not this runner's any more")

// ClaimFor is for how long a runner may write of its job, unless it renews its claim.
const ClaimFor = 2 * time.Minute

// Claim is the right to run a job and to write how far it is. Whoever starts the job next has a later epoch, and this one is worth nothing.
type Claim struct {
	Job, Epoch int64
}

// Claim is that of whoever runs the job.
func (j Job) Claim() Claim { return Claim{j.ID, j.Epoch} }

// RenewClaim prolongs a claim. It fails with ErrOutdated where somebody else has taken the job, or it does not run any more.
func (s *Store) RenewClaim(ctx context.Context, c Claim, now time.Time) error {
	err := s.one(ctx, `UPDATE jobs SET until = ? WHERE id = ? AND epoch = ? AND state = ?`, stamp(now.Add(ClaimFor)), c.Job, c.Epoch, Running)
	if errors.Is(err, ErrNotFound) {
		err = c.outdated()
	}
	return err
}

func (c Claim) outdated() error {
	return fmt.Errorf("job %d, epoch %d: %w", c.Job, c.Epoch, ErrOutdated)
}

// holds fails with ErrOutdated unless the claim is good at a time.
func (c Claim) holds(ctx context.Context, tx *sqlx.Tx, now time.Time) error {
	var until string
	err := tx.GetContext(ctx, &until, `SELECT until FROM jobs WHERE id = ? AND epoch = ? AND state = ?`, c.Job, c.Epoch, Running)
	if errors.Is(err, sql.ErrNoRows) {
		return c.outdated()
	}
	if err != nil {
		return err
	}
	if end, err := time.Parse(time.RFC3339Nano, until); err != nil || now.After(end) {
		return errors.Join(c.outdated(), err)
	}
	return nil
}
