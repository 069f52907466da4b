package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"bagaglio/core/plan"
)

// Group is the record of jobs that were started together.
type Group struct {
	ID      int64     `db:"id"`
	Name    string    `db:"name"`
	Created time.Time `db:"-"`
	Stamp   string    `db:"created"`
	Refused string    `db:"refused"` // of groups that an earlier version started in part
	// AtOnce is how many of its jobs run at once, and StopAfter how many may fail before the others wait; 0 for as many as there are.
	AtOnce    int `db:"at_once"`
	StopAfter int `db:"stop_after"`
}

// Groups returns the newest groups; at most limit.
func (s *Store) Groups(ctx context.Context, limit int) (groups []Group, err error) {
	err = s.db.SelectContext(ctx, &groups, `SELECT * FROM groups ORDER BY id DESC LIMIT ?`, limit)
	for i := range groups {
		if err == nil {
			groups[i].Created, err = time.Parse(time.RFC3339Nano, groups[i].Stamp)
		}
	}
	return groups, err
}

// Group returns one group, or ErrNotFound.
func (s *Store) Group(ctx context.Context, id int64) (g Group, err error) {
	if err = s.db.GetContext(ctx, &g, `SELECT * FROM groups WHERE id = ?`, id); err != nil {
		return g, notFound(err)
	}
	g.Created, err = time.Parse(time.RFC3339Nano, g.Stamp)
	return g, err
}

// JobsOf returns the jobs of a group.
func (s *Store) JobsOf(ctx context.Context, group int64) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE group_id = ? ORDER BY id`, group)
}

// AddGroupPlan keeps a plan of a group, as it is asked for.
func (s *Store) AddGroupPlan(ctx context.Context, id string, g plan.Group, now time.Time) error {
	b, err := json.Marshal(g)
	if err != nil {
		return err
	}
	if _, err := s.writer.ExecContext(ctx, `DELETE FROM group_plans WHERE created < ?`, stamp(now.Add(-keepPlans))); err != nil {
		return err
	}
	_, err = s.writer.ExecContext(ctx, `INSERT INTO group_plans (id, created, plan) VALUES (?, ?, ?)`, id, stamp(now), string(b))
	return err
}

// SetGroupPlan keeps what came of planning a group.
func (s *Store) SetGroupPlan(ctx context.Context, id string, g plan.Group) error {
	b, err := json.Marshal(g)
	if err != nil {
		return err
	}
	return s.one(ctx, `UPDATE group_plans SET plan = ? WHERE id = ?`, string(b), id)
}

// GroupPlan returns the plan of a group, and the number of the group that was started with it, 0 before. It fails with ErrNotFound.
func (s *Store) GroupPlan(ctx context.Context, id string) (g plan.Group, group int64, err error) {
	var row struct {
		Plan  string        `db:"plan"`
		Group sql.NullInt64 `db:"group_id"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT plan, group_id FROM group_plans WHERE id = ?`, id); err != nil {
		return g, 0, notFound(err)
	}
	return g, row.Group.Int64, json.Unmarshal([]byte(row.Plan), &g)
}
