package store

import (
	"context"
	"fmt"
	"time"
)

// Host is the record of a host other than the service's own computer.
type Host struct {
	Name       string `db:"name"`
	Kind       string `db:"kind"`
	Address    string `db:"address"`
	User       string `db:"user"`
	TrustedKey string `db:"trusted_key"`
	ShownKey   string `db:"shown_key"`
	Login      []byte `db:"login"` // encrypted
	Created    string `db:"created"`
}

// AddHost keeps a host, or fails with ErrTaken.
func (s *Store) AddHost(ctx context.Context, h Host, now time.Time) error {
	h.Created = stamp(now)
	_, err := s.writer.NamedExecContext(ctx, `INSERT INTO hosts (name, kind, address, user, trusted_key, shown_key, login, created)
		VALUES (:name, :kind, :address, :user, :trusted_key, :shown_key, :login, :created)`, h)
	if taken(err) {
		return fmt.Errorf("the name %q is %w", h.Name, ErrTaken)
	}
	return err
}

// ChangeHost keeps what changed of a host, or fails with ErrNotFound.
func (s *Store) ChangeHost(ctx context.Context, h Host) error {
	return changed(
		s.writer.NamedExecContext(
			ctx,
			`UPDATE hosts SET address = :address, user = :user, trusted_key = :trusted_key, shown_key = :shown_key, login = :login WHERE name = :name`,
			h,
		),
	)
}

// Hosts returns all hosts by name.
func (s *Store) Hosts(ctx context.Context) (hosts []Host, err error) {
	err = s.db.SelectContext(ctx, &hosts, `SELECT * FROM hosts ORDER BY name`)
	return hosts, err
}

// Host returns one host, or ErrNotFound.
func (s *Store) Host(ctx context.Context, name string) (h Host, err error) {
	err = s.db.GetContext(ctx, &h, `SELECT * FROM hosts WHERE name = ?`, name)
	return h, notFound(err)
}

// RemoveHost forgets a host, or fails with ErrNotFound.
func (s *Store) RemoveHost(ctx context.Context, name string) error {
	if err := s.one(ctx, `DELETE FROM hosts WHERE name = ?`, name); err != nil {
		return err
	}
	return s.SetRuns(ctx, Runs{Host: name})
}
