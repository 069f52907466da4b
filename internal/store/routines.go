package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// KeptRoutine is work that is done again and again.
type KeptRoutine struct {
	Name    string `db:"name"`
	Routine string `db:"routine"` // in JSON
	Who     string `db:"who"`     // changed it last
	Changed string `db:"changed"`
	Next    string `db:"next"` // when it is done by itself; empty for never
}

// KeptRun is one time that a routine was done, or was to be.
type KeptRun struct {
	ID      int64  `db:"id"`
	Routine string `db:"routine"`
	Due     string `db:"due"`
	Who     string `db:"who"`
	Said    string `db:"said"` // what blanks are filled with, in JSON
	Plan    string `db:"plan"` // of a group, empty before there is one
	Jobs    int64  `db:"jobs"` // the group that was begun, 0 for none
	Over    bool   `db:"over"` // nothing more is to be done to begin it
	Problem string `db:"problem"`
	LeftOut string `db:"left_out"` // in JSON
}

func stampOr(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return stamp(t)
}

// PutRoutine keeps a routine, in the place of one of that name. next is when it is done by itself, zero for never.
func (s *Store) PutRoutine(ctx context.Context, k KeptRoutine, now, next time.Time) error {
	_, err := s.writer.ExecContext(
		ctx,
		`INSERT INTO routines (name, routine, who, changed, next) VALUES (?, ?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET
			routine = excluded.routine, who = excluded.who, changed = excluded.changed, next = excluded.next`,
		k.Name, k.Routine, k.Who, stamp(now), stampOr(next),
	)
	return err
}

// Routines returns all, by their names.
func (s *Store) Routines(ctx context.Context) (all []KeptRoutine, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM routines ORDER BY name`)
	return all, err
}

// Routine returns one, or ErrNotFound.
func (s *Store) Routine(ctx context.Context, name string) (k KeptRoutine, err error) {
	err = s.db.GetContext(ctx, &k, `SELECT * FROM routines WHERE name = ?`, name)
	return k, notFound(err)
}

// RemoveRoutine forgets a routine and its runs, or fails with ErrNotFound.
func (s *Store) RemoveRoutine(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM routines WHERE name = ?`, name)
}

// DueRoutines returns those that are to be done by now.
func (s *Store) DueRoutines(ctx context.Context, now time.Time) (all []KeptRoutine, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM routines WHERE next <> '' AND next <= ? ORDER BY next`, stamp(now))
	return all, err
}

// AddRun keeps that a routine is to be done, and when it is the next time, in one. It fails with ErrNotFound where that is not due any more as it was
// found (of): somebody else has taken it, or changed it.
func (s *Store) AddRun(ctx context.Context, r KeptRun, of KeptRoutine, due, next time.Time) (id int64, err error) {
	err = s.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.ExecContext(
			ctx, `UPDATE routines SET next = ? WHERE name = ? AND next = ? AND changed = ?`, stampOr(next), of.Name, of.Next, of.Changed,
		)); err != nil {
			return err
		}
		done, err := tx.ExecContext(
			ctx,
			`INSERT INTO runs (routine, due, who, said, plan, jobs, over, problem, left_out) VALUES (?, ?, ?, ?, '', 0, ?, ?, '[]')`,
			of.Name, stamp(due), r.Who, r.Said, r.Over, r.Problem,
		)
		if err == nil {
			id, err = done.LastInsertId()
		}
		return err
	})
	return id, err
}

// ChangeRun keeps how far a run is.
func (s *Store) ChangeRun(ctx context.Context, r KeptRun) error {
	return changed(s.writer.NamedExecContext(
		ctx, `UPDATE runs SET plan = :plan, jobs = :jobs, over = :over, problem = :problem, left_out = :left_out WHERE id = :id`, r,
	))
}

// Runs returns the newest of a routine.
func (s *Store) Runs(ctx context.Context, routine string, limit int) (all []KeptRun, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM runs WHERE routine = ? ORDER BY id DESC LIMIT ?`, routine, limit)
	return all, err
}

// Run returns one, or ErrNotFound.
func (s *Store) Run(ctx context.Context, id int64) (r KeptRun, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT * FROM runs WHERE id = ?`, id)
	return r, notFound(err)
}

// OpenRuns returns those that are still to be begun, the oldest first.
func (s *Store) OpenRuns(ctx context.Context) (all []KeptRun, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM runs WHERE over = 0 ORDER BY id`)
	return all, err
}

// FailedRuns returns the last runs of routines that were not begun as they were to be.
func (s *Store) FailedRuns(ctx context.Context) (all []KeptRun, err error) {
	err = s.db.SelectContext(
		ctx,
		&all,
		`SELECT * FROM runs WHERE id IN (SELECT MAX(id) FROM runs WHERE over = 1 GROUP BY routine) AND (problem <> '' OR left_out <> '[]') ORDER BY id DESC`,
	)
	return all, err
}
