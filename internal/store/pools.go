package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Pool is the record of a pool.
type Pool struct {
	Name   string
	Host   string
	Folder string
	// Volumes are those that are its disks, see volumes.Check; empty where they are files.
	Volumes string
	Rules   plan.Rules
	Facts   *storage.Facts // of the last trial, nil without one
	Ways    []Way          // other ones to the same storage, by their hosts
}

// Ground is where it lies on its host.
func (p Pool) Ground() volumes.Ground { return volumes.Ground{Folder: p.Folder, Volumes: p.Volumes} }

// poolRow is a pool as the table has it.
type poolRow struct {
	Name    string         `db:"name"`
	Host    string         `db:"host"`
	Folder  string         `db:"folder"`
	Volumes string         `db:"volumes"`
	Rules   string         `db:"rules"`
	Facts   sql.NullString `db:"facts"`
}

func (r poolRow) pool() (Pool, error) {
	p := Pool{Name: r.Name, Host: r.Host, Folder: r.Folder, Volumes: r.Volumes}
	if err := json.Unmarshal([]byte(r.Rules), &p.Rules); err != nil {
		return p, fmt.Errorf("reading the rules of pool %s: %w", r.Name, err)
	}
	if r.Facts.Valid {
		p.Facts = &storage.Facts{}
		if err := json.Unmarshal([]byte(r.Facts.String), p.Facts); err != nil {
			return p, fmt.Errorf("reading the facts of pool %s: %w", r.Name, err)
		}
	}
	return p, nil
}

// taken tells whether a statement failed since another record has the name.
func taken(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code() == lib.SQLITE_CONSTRAINT_PRIMARYKEY || e.Code() == lib.SQLITE_CONSTRAINT_UNIQUE)
}

// AddPool keeps a pool, or fails with ErrTaken.
func (s *Store) AddPool(ctx context.Context, p Pool, now time.Time) error {
	rules, err := json.Marshal(p.Rules)
	if err != nil {
		return err
	}
	_, err = s.writer.ExecContext(
		ctx,
		`INSERT INTO pools (name, host, folder, volumes, created, rules) VALUES (?, ?, ?, ?, ?, ?)`,
		p.Name,
		p.Host,
		p.Folder,
		p.Volumes,
		stamp(now),
		string(rules),
	)
	if !taken(err) {
		return err
	}
	var other []string
	if err := s.db.SelectContext(ctx, &other, `SELECT name FROM pools WHERE host = ? AND folder = ?`, p.Host, p.Folder); err != nil {
		return err
	}
	if len(other) > 0 {
		return fmt.Errorf("the folder %s is %w, by the pool %s", p.Folder, ErrTaken, other[0])
	}
	return fmt.Errorf("the name %q is %w, by another pool", p.Name, ErrTaken)
}

// SetRules keeps the rules of a pool only, or fails with ErrNotFound.
func (s *Store) SetRules(ctx context.Context, pool string, r plan.Rules) error {
	rules, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.one(ctx, `UPDATE pools SET rules = ? WHERE name = ?`, string(rules), pool)
}

// SetFacts keeps the facts of a pool only, or fails with ErrNotFound.
func (s *Store) SetFacts(ctx context.Context, p Pool) error {
	facts, err := json.Marshal(p.Facts)
	if err != nil {
		return err
	}
	return s.one(ctx, `UPDATE pools SET facts = ? WHERE name = ?`, string(facts), p.Name)
}

const poolColumns = `name, host, folder, volumes, rules, facts`

// Pools returns all pools by name.
func (s *Store) Pools(ctx context.Context) ([]Pool, error) {
	var rows []poolRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+poolColumns+` FROM pools ORDER BY name`); err != nil {
		return nil, err
	}
	pools := make([]Pool, len(rows))
	for i, row := range rows {
		var err error
		if pools[i], err = row.pool(); err != nil {
			return nil, err
		}
		if pools[i].Ways, err = s.Ways(ctx, pools[i].Name); err != nil {
			return nil, err
		}
	}
	return pools, nil
}

// Pool returns one pool, or ErrNotFound.
func (s *Store) Pool(ctx context.Context, name string) (Pool, error) {
	var row poolRow
	read, err := s.prepared(ctx, `SELECT `+poolColumns+` FROM pools WHERE name = ?`) //nolint:sqlclosecheck // it is kept
	if err == nil {
		err = read.GetContext(ctx, &row, name)
	}
	if err != nil {
		return Pool{}, notFound(err)
	}
	p, err := row.pool()
	if err == nil {
		p.Ways, err = s.Ways(ctx, name)
	}
	return p, err
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

// KnownFormats returns the formats that files of a pool are known to have.
func (s *Store) KnownFormats(ctx context.Context, pool string) (known []KnownFormat, err error) {
	err = s.db.SelectContext(ctx, &known, `SELECT path, file, format FROM known_formats WHERE pool = ?`, pool)
	return known, err
}

// KnownFormat is the format that a file of a pool is known to have. File is its identity: another file under the same name is not known.
type KnownFormat struct{ Path, File, Format string }

// SetKnownFormats keeps the formats of files, which are disks from then on.
func (s *Store) SetKnownFormats(ctx context.Context, pool string, known ...KnownFormat) error {
	var groups [][]change
	for _, k := range known {
		groups = append(groups, []change{
			{
				`INSERT INTO known_formats (pool, path, file, format) VALUES (?, ?, ?, ?) ON CONFLICT (pool, path) DO UPDATE SET file = excluded.file, format = excluded.format`,
				[]any{pool, k.Path, k.File, k.Format},
			},
			{`DELETE FROM strays WHERE pool = ? AND name = ?`, []any{pool, k.Path}},
		})
	}
	return s.write(ctx, groups)
}
