package store

import (
	"context"
	"math"
	"time"

	"github.com/jmoiron/sqlx"
)

// Event is a line of the log: who did what, when, from where, and what came of it.
type Event struct {
	Number  int64  `db:"number"`
	At      string `db:"at"`
	Who     string `db:"who"`
	Origin  string `db:"origin"`
	What    string `db:"what"`
	Subject string `db:"subject"`
	Result  string `db:"result"`
}

// AddEvent adds a line to the log.
func (s *Store) AddEvent(ctx context.Context, e Event, now time.Time) error {
	return addEvent(ctx, s.writer, e, now)
}

// addEvent does so also as a part of something else.
func addEvent(ctx context.Context, to sqlx.ExecerContext, e Event, now time.Time) error {
	_, err := to.ExecContext(
		ctx,
		`INSERT INTO events (at, who, origin, what, subject, result) VALUES (?, ?, ?, ?, ?, ?)`,
		stamp(now),
		e.Who,
		e.Origin,
		e.What,
		e.Subject,
		e.Result,
	)
	return err
}

// Events returns the newest lines of the log before one of that number, or all when it is 0, which have that text in them; at most limit.
func (s *Store) Events(ctx context.Context, before int64, search string, limit int) (events []Event, err error) {
	err = s.db.SelectContext(
		ctx,
		&events,
		`SELECT * FROM events WHERE (?1 = 0 OR number < ?1) AND
			(who || ' ' || origin || ' ' || what || ' ' || subject || ' ' || result) LIKE ?2 ESCAPE '\' ORDER BY number DESC LIMIT ?3`,
		before,
		like(search),
		limit,
	)
	return events, err
}

// OldestEvents returns the oldest lines of the log that are more than keep, or older than age; at most limit. 0 keeps all.
func (s *Store) OldestEvents(ctx context.Context, keep int, age time.Duration, now time.Time, limit int) (events []Event, err error) {
	before := stamp(time.Time{})
	if age > 0 {
		before = stamp(now.Add(-age))
	}
	if keep <= 0 {
		keep = math.MaxInt
	}
	err = s.db.SelectContext(
		ctx,
		&events,
		`SELECT * FROM events WHERE at < ? OR number <= (SELECT max(number) FROM events) - ? ORDER BY number LIMIT ?`,
		before,
		keep,
		limit,
	)
	return events, err
}

// DropEvents removes the lines of the log up to a number, which somebody has kept elsewhere.
func (s *Store) DropEvents(ctx context.Context, upTo int64) error {
	_, err := s.writer.ExecContext(ctx, `DELETE FROM events WHERE number <= ?`, upTo)
	return err
}

// Limit says how many jobs may run at once, and how fast.
type Limit struct {
	Scope string `db:"scope"`
	Name  string `db:"name"`
	Jobs  int    `db:"jobs"`
	Speed int64  `db:"speed"`
}

// Limits returns all that were set.
func (s *Store) Limits(ctx context.Context) (limits []Limit, err error) {
	err = s.db.SelectContext(ctx, &limits, `SELECT * FROM limits ORDER BY scope, name`)
	return limits, err
}

// SetLimit sets one.
func (s *Store) SetLimit(ctx context.Context, l Limit) error {
	_, err := s.writer.ExecContext(ctx, `INSERT INTO limits (scope, name, jobs, speed) VALUES (?, ?, ?, ?)
		ON CONFLICT (scope, name) DO UPDATE SET jobs = excluded.jobs, speed = excluded.speed`, l.Scope, l.Name, l.Jobs, l.Speed)
	return err
}

// RemoveLimit forgets a limit, or fails with ErrNotFound.
func (s *Store) RemoveLimit(ctx context.Context, scope, name string) error {
	return s.one(ctx, `DELETE FROM limits WHERE scope = ? AND name = ?`, scope, name)
}
