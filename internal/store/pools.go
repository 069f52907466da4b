package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Pool is the record of a pool.
type Pool struct {
	Name   string `db:"name"`
	Host   string `db:"host"`
	Folder string `db:"folder"`
}

// AddPool keeps a pool, or fails with ErrTaken.
func (s *Store) AddPool(ctx context.Context, p Pool, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO pools (name, host, folder, created) VALUES (?, ?, ?, ?)`, p.Name, p.Host, p.Folder, stamp(now))
	var e *sqlite.Error
	if errors.As(err, &e) && (e.Code() == lib.SQLITE_CONSTRAINT_PRIMARYKEY || e.Code() == lib.SQLITE_CONSTRAINT_UNIQUE) {
		return fmt.Errorf("the name %q or the folder %s is %w", p.Name, p.Folder, ErrTaken)
	}
	return err
}

// Pools returns all pools by name.
func (s *Store) Pools(ctx context.Context) (pools []Pool, err error) {
	err = s.db.SelectContext(ctx, &pools, `SELECT name, host, folder FROM pools ORDER BY name`)
	return pools, err
}

// Pool returns one pool, or ErrNotFound.
func (s *Store) Pool(ctx context.Context, name string) (p Pool, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT name, host, folder FROM pools WHERE name = ?`, name)
	return p, notFound(err)
}

// RemovePool forgets a pool, or fails with ErrNotFound.
func (s *Store) RemovePool(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM pools WHERE name = ?`, name)
}

// KnownFormat returns the format that a file of a pool is known to have, or ErrNotFound. file is its identity.
func (s *Store) KnownFormat(ctx context.Context, pool, path, file string) (format string, err error) {
	err = s.db.GetContext(ctx, &format, `SELECT format FROM known_formats WHERE pool = ? AND path = ? AND file = ?`, pool, path, file)
	return format, notFound(err)
}

// SetKnownFormat keeps the format of a file.
func (s *Store) SetKnownFormat(ctx context.Context, pool, path, file, format string) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO known_formats (pool, path, file, format) VALUES (?, ?, ?, ?)
		ON CONFLICT (pool, path) DO UPDATE SET file = excluded.file, format = excluded.format`, pool, path, file, format)
	return err
}
