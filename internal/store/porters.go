package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Porter is a computer near storage that works for the service.
type Porter struct {
	Name       string `db:"name"`
	Invitation string `db:"invitation"` // SHA-256 of what it joins with, empty once it has
	Invited    string `db:"invited"`
	Joined     string `db:"joined"` // empty before
	Key        string `db:"key"`    // SHA-256 of its public key, empty before
	Secret     string `db:"secret"` // SHA-256 of what it shows to the engine, likewise
	Seen       string `db:"seen"`   // when it was heard last, empty for never
	Said       string `db:"said"`   // of itself, in JSON
	Paused     bool   `db:"paused"`
}

// Times are when it was invited, when it joined, and when it was heard last; the zero time for never.
func (p Porter) Times() (invited, joined, seen time.Time) {
	parse := func(text string) time.Time {
		t, _ := time.Parse(time.RFC3339Nano, text) // empty for never
		return t
	}
	return parse(p.Invited), parse(p.Joined), parse(p.Seen)
}

// InvitePorter keeps that one was invited, by the hash of what it joins with, or fails with ErrTaken. An older invitation that was not used is worth
// nothing then.
func (s *Store) InvitePorter(ctx context.Context, name, invitation string, now time.Time) error {
	err := s.one(
		ctx,
		`INSERT INTO porters (name, invitation, invited, joined, key, secret, seen, said, paused) VALUES (?, ?, ?, '', '', '', '', '{}', 0)
			ON CONFLICT (name) DO UPDATE SET invitation = excluded.invitation, invited = excluded.invited WHERE key = ''`,
		name, invitation, stamp(now),
	)
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("the porter %q has joined already: the name is %w", name, ErrTaken)
	}
	return err
}

// JoinPorter notes that the one joined who was invited with something of that hash after a time, and returns it. It fails with ErrNotFound for anybody else.
func (s *Store) JoinPorter(ctx context.Context, invitation, key, secret string, since, now time.Time) (p Porter, err error) {
	err = s.db.GetContext(
		ctx,
		&p,
		`UPDATE porters SET invitation = '', joined = ?, key = ?, secret = ? WHERE invitation = ? AND invited >= ? AND key = '' RETURNING *`,
		stamp(now),
		key,
		secret,
		invitation,
		stamp(since),
	)
	return p, notFound(err)
}

// Porters returns all, by their names.
func (s *Store) Porters(ctx context.Context) (all []Porter, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM porters ORDER BY name`)
	return all, err
}

// Porter returns one, or ErrNotFound.
func (s *Store) Porter(ctx context.Context, name string) (p Porter, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT * FROM porters WHERE name = ?`, name)
	return p, notFound(err)
}

// HeardPorter keeps what one says of itself, or fails with ErrNotFound.
func (s *Store) HeardPorter(ctx context.Context, name, said string, now time.Time) error {
	return s.one(ctx, `UPDATE porters SET seen = ?, said = ? WHERE name = ?`, stamp(now), said, name)
}

// PausePorter has one be given no more work, or again, or fails with ErrNotFound.
func (s *Store) PausePorter(ctx context.Context, name string, paused bool) error {
	return s.one(ctx, `UPDATE porters SET paused = ? WHERE name = ?`, paused, name)
}

// RemovePorter forgets one, or fails with ErrNotFound.
func (s *Store) RemovePorter(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM porters WHERE name = ?`, name)
}
