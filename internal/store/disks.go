package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"bagaglio/core/catalog"

	"github.com/jmoiron/sqlx"
)

// Catalog returns what lay in a pool when it was last looked through.
func (s *Store) Catalog(ctx context.Context, pool string) (c catalog.Catalog, err error) {
	if c.Disks, err = s.disks(ctx, `SELECT disk FROM disks WHERE pool = ?`, pool); err != nil {
		return c, err
	}
	if c.Machines, err = s.machines(ctx, pool); err != nil {
		return c, err
	}
	c.Strays, err = s.Strays(ctx, pool, 0, -1)
	return c, err
}

func (s *Store) disks(ctx context.Context, query string, args ...any) ([]catalog.Disk, error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	disks := make([]catalog.Disk, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row), &disks[i]); err != nil {
			return nil, fmt.Errorf("reading what is known of a disk: %w", err)
		}
	}
	return disks, nil
}

// CountStrays returns how many files of a pool belong to no disk.
func (s *Store) CountStrays(ctx context.Context, pool string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT count(*) FROM strays WHERE pool = ?`, pool)
	return n, err
}

// Strays returns files of a pool that belong to no disk, from an offset on; at most limit, or all when that is negative.
func (s *Store) Strays(ctx context.Context, pool string, offset, limit int) ([]catalog.File, error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, `SELECT file FROM strays WHERE pool = ? ORDER BY name LIMIT ? OFFSET ?`, pool, limit, offset); err != nil {
		return nil, err
	}
	files := make([]catalog.File, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row), &files[i]); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// SetCatalog keeps what lies in a pool. Only what differs from before is written.
func (s *Store) SetCatalog(ctx context.Context, pool string, c catalog.Catalog, now time.Time) error {
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		old := map[string]string{}
		rows := []struct {
			Path string `db:"path"`
			Disk string `db:"disk"`
		}{}
		if err := tx.SelectContext(ctx, &rows, `SELECT path, disk FROM disks WHERE pool = ?`, pool); err != nil {
			return err
		}
		for _, r := range rows {
			old[r.Path] = r.Disk
		}
		for _, d := range c.Disks {
			b, err := json.Marshal(d)
			if err != nil {
				return err
			}
			was, ok := old[d.Path]
			delete(old, d.Path)
			if ok && was == string(b) {
				continue
			}
			_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO disks (pool, path, virtual_size, allocated_size, file_size, room, modified, broken, disk) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				pool, d.Path, d.VirtualSize, d.AllocatedSize, d.FileSize, d.Room, stamp(d.Modified), d.Problem != "", string(b))
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `DELETE FROM stands WHERE pool = ? AND path = ?`, pool, d.Path); err != nil {
				return err
			}
			for _, file := range d.Chain {
				if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO stands (pool, path, file) VALUES (?, ?, ?)`, pool, d.Path, file); err != nil {
					return err
				}
			}
		}
		for gone := range old {
			if _, err := tx.ExecContext(ctx, `DELETE FROM disks WHERE pool = ? AND path = ?`, pool, gone); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM strays WHERE pool = ?`, pool); err != nil {
			return err
		}
		for _, f := range c.Strays {
			b, err := json.Marshal(f)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO strays (pool, name, file) VALUES (?, ?, ?)`, pool, f.Name, string(b)); err != nil {
				return err
			}
		}
		if err := setMachines(ctx, tx, pool, c.Machines); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO scans (pool, at, problem) VALUES (?, ?, '')`, pool, stamp(now))
		return err
	})
}

// Scanned returns when a pool was last looked through; the zero time when never.
func (s *Store) Scanned(ctx context.Context, pool string) (time.Time, error) {
	var at []string
	if err := s.db.SelectContext(ctx, &at, `SELECT at FROM scans WHERE pool = ?`, pool); err != nil || len(at) == 0 {
		return time.Time{}, err
	}
	return time.Parse(time.RFC3339Nano, at[0])
}

// DiskQuery says which disks of a pool are wanted.
type DiskQuery struct {
	Search     string // a part of the path
	Only       string // OnlyBroken, OnlyOverlays, OnlyBases, OnlyOrphans, or empty for all
	Sort       string // a column; empty for the path
	Descending bool
	Offset     int
	Limit      int
	// StraysOffset is for the files that belong to no disk.
	StraysOffset int
}

// What of a pool is wanted.
const (
	OnlyBroken   = "broken"
	OnlyOverlays = "overlays"
	OnlyBases    = "bases"
	OnlyOrphans  = "orphans"
)

// onlys are the conditions of what is wanted.
var onlys = map[string]string{
	"": "", OnlyBroken: ` AND broken = 1`, OnlyOverlays: ` AND EXISTS (SELECT 1 FROM stands WHERE stands.pool = disks.pool AND stands.path = disks.path)`,
	OnlyBases:   ` AND EXISTS (SELECT 1 FROM stands WHERE stands.pool = disks.pool AND stands.file = disks.path)`,
	OnlyOrphans: orphaned,
}

// sorts are the columns to sort by.
var sorts = map[string]string{
	"": "path", "path": "path", "virtual_size": "virtual_size", "allocated_size": "allocated_size", "file_size": "file_size", "room": "room", "modified": "modified",
}

// Disks returns disks of a pool as they were when it was last looked through, and how many there are of that kind.
func (s *Store) Disks(ctx context.Context, pool string, q DiskQuery) (disks []catalog.Disk, total int, err error) {
	sort, okSort := sorts[q.Sort]
	only, okOnly := onlys[q.Only]
	if !okSort || !okOnly {
		return nil, 0, fmt.Errorf("disks cannot be sorted by %q or looked for by %q", q.Sort, q.Only)
	}
	where := ` FROM disks WHERE pool = ? AND path LIKE ? ESCAPE '\'` + only
	like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(q.Search) + "%"
	if err := s.db.GetContext(ctx, &total, `SELECT count(*)`+where, pool, like); err != nil {
		return nil, 0, err
	}
	if q.Descending {
		sort += " DESC"
	}
	disks, err = s.disks(ctx, `SELECT disk`+where+` ORDER BY `+sort+`, path LIMIT ? OFFSET ?`, pool, like, q.Limit, q.Offset)
	return disks, total, err
}

// DisksRoom is what all disks of a pool take of the storage, in bytes.
func (s *Store) DisksRoom(ctx context.Context, pool string) (room int64, err error) {
	err = s.db.GetContext(ctx, &room, `SELECT coalesce(sum(room), 0) FROM disks WHERE pool = ?`, pool)
	return room, err
}

// Standing returns the disks of a pool that stand on one of the files.
func (s *Store) Standing(ctx context.Context, pool string, files []string) (paths []string, err error) {
	query, args, err := sqlx.In(`SELECT DISTINCT path FROM stands WHERE pool = ? AND file IN (?) ORDER BY path`, pool, append(files, ""))
	if err == nil {
		err = s.db.SelectContext(ctx, &paths, query, args...)
	}
	return paths, err
}
