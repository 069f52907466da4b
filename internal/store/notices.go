package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Channel is somebody, or a program, that is told what happens.
type Channel struct {
	Name    string `db:"name"`
	Kind    string `db:"kind"`
	Target  string `db:"target"` // in JSON
	Secret  []byte `db:"secret"` // encrypted
	Tells   string `db:"tells"`  // the kinds of what it is told, in JSON
	Created string `db:"created"`
}

// Notice is a message for a channel.
type Notice struct {
	Number  int64  `db:"number"` // in the order of which they are told
	ID      string `db:"id"`
	Channel string `db:"channel"`
	Message string `db:"message"` // in JSON
	Created string `db:"created"`
	Tries   int    `db:"tries"`
	Next    string `db:"next"`    // when it is tried; empty for one that is not any more
	Problem string `db:"problem"` // of the last try
}

// AddChannel keeps a channel, or fails with ErrTaken.
func (s *Store) AddChannel(ctx context.Context, c Channel) error {
	_, err := s.writer.NamedExecContext(
		ctx, `INSERT INTO channels (name, kind, target, secret, tells, created) VALUES (:name, :kind, :target, :secret, :tells, :created)`, c,
	)
	if taken(err) {
		return fmt.Errorf("the name %q is %w", c.Name, ErrTaken)
	}
	return err
}

// Channels returns all, by their names.
func (s *Store) Channels(ctx context.Context) (all []Channel, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM channels ORDER BY name`)
	return all, err
}

// RemoveChannel forgets a channel and what it was to be told, or fails with ErrNotFound.
func (s *Store) RemoveChannel(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM channels WHERE name = ?`, name)
}

// Tell notes what is so at a time, and keeps for the channels what is new of it: fresh is called with each that was not told yet. What was not so
// any more since an earlier time is forgotten, and told again when it comes back.
func (s *Store) Tell(ctx context.Context, so []string, now, forget time.Time, fresh func(what string) []Notice) error {
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		for _, what := range so {
			var known int
			if err := tx.GetContext(ctx, &known, `SELECT COUNT(*) FROM told WHERE what = ?`, what); err != nil {
				return err
			}
			if _, err := tx.ExecContext(
				ctx, `INSERT INTO told (what, seen) VALUES (?, ?) ON CONFLICT (what) DO UPDATE SET seen = excluded.seen`, what, stamp(now),
			); err != nil {
				return err
			}
			if known > 0 {
				continue
			}
			for _, n := range fresh(what) {
				if _, err := tx.ExecContext(
					ctx,
					`INSERT INTO notices (id, channel, message, created, tries, next, problem) VALUES (?, ?, ?, ?, 0, ?, '')`,
					n.ID, n.Channel, n.Message, stamp(now), stamp(now),
				); err != nil {
					return err
				}
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM told WHERE seen < ?`, stamp(forget))
		return err
	})
}

// WaitingNotices returns those of a channel that are still to be told, in their order; none where the first one is not to be tried by now.
func (s *Store) WaitingNotices(ctx context.Context, channel string, now time.Time) (all []Notice, err error) {
	err = s.db.SelectContext(
		ctx, &all, `SELECT * FROM notices WHERE channel = ? AND next <> '' ORDER BY number LIMIT 100`, channel,
	)
	if len(all) > 0 && all[0].Next > stamp(now) {
		return nil, err
	}
	return all, err
}

// NoticeTried keeps what came of a try, and when the next one is; zero for never.
func (s *Store) NoticeTried(ctx context.Context, id string, next time.Time, problem string) error {
	at := ""
	if !next.IsZero() {
		at = stamp(next)
	}
	_, err := s.writer.ExecContext(ctx, `UPDATE notices SET tries = tries + 1, next = ?, problem = ? WHERE id = ?`, at, problem, id)
	return err
}

// LastNotices returns the newest of a channel, and how many are still to be told.
func (s *Store) LastNotices(ctx context.Context, channel string, limit int) (last []Notice, waiting int, err error) {
	err = s.db.SelectContext(ctx, &last, `SELECT * FROM notices WHERE channel = ? ORDER BY number DESC LIMIT ?`, channel, limit)
	if err == nil {
		err = s.db.GetContext(ctx, &waiting, `SELECT COUNT(*) FROM notices WHERE channel = ? AND next <> ''`, channel)
	}
	return last, waiting, err
}

// DropNotices forgets those that were made before a time and are not to be tried any more.
func (s *Store) DropNotices(ctx context.Context, before time.Time) error {
	_, err := s.writer.ExecContext(ctx, `DELETE FROM notices WHERE next = '' AND created < ?`, stamp(before))
	return err
}
