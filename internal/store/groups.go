package store

import (
	"context"
	"time"
)

// Group is the record of jobs that were started together.
type Group struct {
	ID      int64  `db:"id"`
	Name    string `db:"name"`
	Created string `db:"created"`
	Refused string `db:"refused"` // JSON: requests that were not started, and why
}

// AddGroup keeps a group and returns its number.
func (s *Store) AddGroup(ctx context.Context, name string, now time.Time) (int64, error) {
	res, err := s.db.ExecContext(ctx, `INSERT INTO groups (name, created, refused) VALUES (?, ?, '[]')`, name, stamp(now))
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// SetRefused keeps which requests of a group were not started.
func (s *Store) SetRefused(ctx context.Context, id int64, refused string) error {
	return s.one(ctx, `UPDATE groups SET refused = ? WHERE id = ?`, refused, id)
}

// JoinGroup makes a job one of a group.
func (s *Store) JoinGroup(ctx context.Context, job, group int64) error {
	return s.one(ctx, `UPDATE jobs SET group_id = ? WHERE id = ?`, group, job)
}

// Groups returns the newest groups; at most limit.
func (s *Store) Groups(ctx context.Context, limit int) (groups []Group, err error) {
	err = s.db.SelectContext(ctx, &groups, `SELECT * FROM groups ORDER BY id DESC LIMIT ?`, limit)
	return groups, err
}

// Group returns one group, or ErrNotFound.
func (s *Store) Group(ctx context.Context, id int64) (g Group, err error) {
	err = s.db.GetContext(ctx, &g, `SELECT * FROM groups WHERE id = ?`, id)
	return g, notFound(err)
}

// JobsOf returns the jobs of a group.
func (s *Store) JobsOf(ctx context.Context, group int64) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE group_id = ? ORDER BY id`, group)
}
