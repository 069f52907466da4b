package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"

	"github.com/jmoiron/sqlx"
)

// Lease is a file that a job uses.
type Lease struct {
	File   string `db:"file"` // host and path
	Job    int64  `db:"job"`
	Writes bool   `db:"writes"`
	Since  string `db:"since"`
	State  State  `db:"state"` // of the job
	Runner string `db:"runner"`
	Epoch  int64  `db:"epoch"`
	Until  string `db:"until"` // when its claim runs out, unless that is renewed
}

// LeasedError tells who uses a file that a job needs.
type LeasedError struct{ Lease }

func (e *LeasedError) Error() string {
	return fmt.Sprintf("job %d %s %s", e.Job, map[bool]string{true: "writes", false: "reads"}[e.Writes], e.File)
}

// BeforeAll is a rank before that of any job.
const BeforeAll = -math.MaxFloat64

// Waiting returns jobs that wait, in their order, behind one with that rank, without those of some pools (PoolsOf); at most limit.
func (s *Store) Waiting(ctx context.Context, behind float64, without []string, limit int) ([]Job, error) {
	names, err := json.Marshal(append([]string{}, without...)) // null has no rows
	if err != nil {
		return nil, err
	}
	return s.jobs(
		ctx,
		`SELECT * FROM jobs WHERE id IN (
			SELECT id FROM jobs WHERE state = ? AND rank > ? AND pools NOT IN (SELECT value FROM json_each(?)) ORDER BY rank LIMIT ?
		) ORDER BY rank`,
		Waiting, behind, string(names), limit,
	)
}

// StartJob notes that a waiting job runs, and takes its leases, all or none, in the order of their files. It fails with ErrNotFound when
// the job does not wait any more, and with a LeasedError when another job is in the way. Whoever had a claim on it before has none now.
// The log gets a line.
func (s *Store) StartJob(ctx context.Context, id int64, leases []Lease, runner string, note Event, now time.Time) (c Claim, err error) {
	c.Job = id
	leases = slices.Clone(leases)
	slices.SortFunc(leases, func(a, b Lease) int {
		if a.File < b.File {
			return -1
		}
		return 1
	})
	err = s.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, l := range leases {
			var other Lease
			err := tx.GetContext(
				ctx,
				&other,
				`SELECT leases.*, jobs.state, jobs.runner, jobs.epoch, jobs.until FROM leases JOIN jobs ON jobs.id = leases.job
				WHERE file = ? AND job <> ? AND (writes = 1 OR ? = 1) LIMIT 1`,
				l.File,
				id,
				l.Writes,
			)
			if err == nil {
				return &LeasedError{other}
			}
			if !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			_, err = tx.ExecContext(ctx, `INSERT INTO leases (file, job, writes, since) VALUES (?, ?, ?, ?)
				ON CONFLICT (file, job) DO UPDATE SET writes = max(writes, excluded.writes)`, l.File, id, l.Writes, stamp(now))
			if err != nil {
				return err
			}
		}
		const begin = `UPDATE jobs SET state = ?, started = coalesce(started, ?), uncleared = 1, trouble = 0, reason = '',
			epoch = epoch + 1, runner = ?, until = ? WHERE id = ? AND state = ? RETURNING epoch`
		if err := tx.GetContext(ctx, &c.Epoch, begin, Running, stamp(now), runner, stamp(now.Add(ClaimFor)), id, Waiting); err != nil {
			return notFound(err)
		}
		return addEvent(ctx, tx, note, now)
	})
	return c, err
}

// Leases returns who uses what, by file.
func (s *Store) Leases(ctx context.Context) (leases []Lease, err error) {
	err = s.db.SelectContext(
		ctx,
		&leases,
		`SELECT leases.*, jobs.state, jobs.runner, jobs.epoch, jobs.until FROM leases JOIN jobs ON jobs.id = leases.job ORDER BY file, job`,
	)
	return leases, err
}

// FreeLeases drops the leases of a job.
func (s *Store) FreeLeases(ctx context.Context, id int64) error {
	return s.one(ctx, `DELETE FROM leases WHERE job = ?`, id)
}

// SetAside moves a job that has not ended from one state to another, with a reason. trouble tells that it goes on by itself.
func (s *Store) SetAside(ctx context.Context, c Claim, from, to State, reason string, trouble bool) error {
	return s.one(
		ctx,
		`UPDATE jobs SET state = ?, reason = ?, trouble = ?, stopped_by = NULL WHERE id = ? AND epoch = ? AND state = ?`,
		to,
		reason,
		trouble,
		c.Job,
		c.Epoch,
		from,
	)
}

// StopBy pauses a running job for a check. trouble tells that it goes on by itself.
func (s *Store) StopBy(ctx context.Context, c Claim, reason string, trouble bool, by plan.Check) error {
	b, err := json.Marshal(by)
	if err != nil {
		return err
	}
	return s.one(
		ctx,
		`UPDATE jobs SET state = ?, reason = ?, trouble = ?, stopped_by = ? WHERE id = ? AND epoch = ? AND state = ?`,
		Paused,
		reason,
		trouble,
		string(b),
		c.Job,
		c.Epoch,
		Running,
	)
}

// Ask notes what a running job asks a person.
func (s *Store) Ask(ctx context.Context, c Claim, q step.Question) error {
	b, err := json.Marshal(q)
	if err != nil {
		return err
	}
	return s.one(
		ctx,
		`UPDATE jobs SET state = ?, reason = ?, trouble = 0, stopped_by = NULL, question = ?, answer = '' WHERE id = ? AND epoch = ? AND state = ?`,
		Asking,
		q.Text,
		string(b),
		c.Job,
		c.Epoch,
		Running,
	)
}

// Answer puts a job that asks into the queue again, with the answer.
func (s *Store) Answer(ctx context.Context, c Claim, name string) error {
	return s.one(
		ctx,
		`UPDATE jobs SET state = ?, reason = '', answer = ? WHERE id = ? AND epoch = ? AND state = ?`,
		Waiting,
		name,
		c.Job,
		c.Epoch,
		Asking,
	)
}

// Asking returns the jobs that ask.
func (s *Store) Asking(ctx context.Context) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE state = ? ORDER BY rank`, Asking)
}

// Troubled returns the jobs that paused by themselves.
func (s *Store) Troubled(ctx context.Context) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE state = ? AND trouble = 1 ORDER BY rank`, Paused)
}

// MoveJob puts a waiting job before another one in the order, or, when before is 0, behind all. It fails with ErrNotFound when one of them
// does not wait.
func (s *Store) MoveJob(ctx context.Context, id, before int64) error {
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		var rank float64
		if before == 0 {
			if err := tx.GetContext(ctx, &rank, `SELECT coalesce(max(rank), 0) + 1 FROM jobs`); err != nil {
				return err
			}
		} else {
			var next float64
			if err := tx.GetContext(ctx, &next, `SELECT rank FROM jobs WHERE id = ? AND state = ?`, before, Waiting); err != nil {
				return notFound(err)
			}
			var last sql.NullFloat64
			if err := tx.GetContext(
				ctx,
				&last,
				`SELECT max(rank) FROM jobs WHERE state = ? AND rank < ? AND id <> ?`,
				Waiting,
				next,
				id,
			); err != nil {
				return err
			}
			rank = next - 1
			if last.Valid {
				rank = (last.Float64 + next) / 2
			}
		}
		return changed(tx.ExecContext(ctx, `UPDATE jobs SET rank = ? WHERE id = ? AND state = ?`, rank, id, Waiting))
	})
}

// SetJob changes the speed limit, in bytes a second, and the hours of a job that has not ended.
func (s *Store) SetJob(ctx context.Context, id, speed int64, hours string) error {
	return s.one(
		ctx,
		`UPDATE jobs SET speed = ?, hours = ? WHERE id = ? AND state IN (?, ?, ?, ?)`,
		speed,
		hours,
		id,
		Waiting,
		Running,
		Paused,
		Asking,
	)
}
