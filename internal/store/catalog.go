package store

import (
	"context"
	"encoding/json"
	"path"
	"reflect"
	"slices"
	"time"

	"bagaglio/core/catalog"

	"github.com/jmoiron/sqlx"
)

// atOnce is how many statements are made in one transaction, so that whoever else writes does not wait long; what belongs together stays
// together.
const atOnce = 60

// Look is what is kept of looking through a pool.
type Look struct {
	Began  time.Time // the zero time when it never was looked through to its end
	Disks  int
	Room   int64 // of all disks, in bytes
	Strays int
	Missed []catalog.Missed
}

// Looked returns what is kept of the last look through a pool.
func (s *Store) Looked(ctx context.Context, pool string) (l Look, err error) {
	var rows []struct {
		Began  string
		Disks  int
		Room   int64
		Strays int
		Missed string
	}
	if err := s.db.SelectContext(
		ctx,
		&rows,
		`SELECT began, disks, room, strays, missed FROM scans WHERE pool = ?`,
		pool,
	); err != nil ||
		len(rows) == 0 {
		return l, err
	}
	r := rows[0]
	l.Disks, l.Room, l.Strays = r.Disks, r.Room, r.Strays
	if err := json.Unmarshal([]byte(r.Missed), &l.Missed); err != nil || r.Began == "" {
		return l, err
	}
	l.Began, err = time.Parse(time.RFC3339Nano, r.Began)
	return l, err
}

// Catalog returns what lay in a pool when it was last looked through.
func (s *Store) Catalog(ctx context.Context, pool string) (c catalog.Catalog, err error) {
	if c.Disks, err = s.disks(ctx, `SELECT disk FROM disks WHERE pool = ?`, pool); err != nil {
		return c, err
	}
	if c.Machines, err = s.machines(ctx, pool); err != nil {
		return c, err
	}
	c.Strays, err = s.Strays(ctx, pool, "", -1)
	return c, err
}

// change is something to be written.
type change struct {
	query string
	args  []any
}

// write makes changes, some in each transaction, those of a group in one.
func (s *Store) write(ctx context.Context, groups [][]change) error {
	var some []change
	for i, group := range groups {
		if some = append(some, group...); len(some) < atOnce && i < len(groups)-1 {
			continue
		}
		err := s.transaction(ctx, func(tx *sqlx.Tx) error {
			for _, c := range some {
				if _, err := tx.ExecContext(ctx, c.query, c.args...); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		some = some[:0]
	}
	return nil
}

// AddDisks keeps disks that a look through a pool has found so far.
func (s *Store) AddDisks(ctx context.Context, pool string, disks []catalog.Disk) error {
	var groups [][]change
	for _, d := range disks {
		b, err := json.Marshal(d)
		if err != nil {
			return err
		}
		groups = append(groups, setDisk(pool, d, string(b)))
	}
	return s.write(
		ctx,
		append(groups, []change{{`INSERT OR IGNORE INTO scans (pool, at, problem) VALUES (?, '', '')`, []any{pool}}, count(pool)}),
	)
}

// setDisk is how a disk is written.
func setDisk(pool string, d catalog.Disk, text string) []change {
	out := []change{
		{
			`INSERT OR REPLACE INTO disks (pool, path, virtual_size, allocated_size, file_size, room, modified, broken, disk) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			[]any{pool, d.Path, d.VirtualSize, d.AllocatedSize, d.FileSize, d.Room, stamp(d.Modified), d.Problem != "", text},
		},
		{`DELETE FROM stands WHERE pool = ? AND path = ?`, []any{pool, d.Path}},
	}
	for _, file := range append(slices.Clone(d.Chain), d.Outside) {
		if file == "" {
			continue
		}
		out = append(out, change{`INSERT OR IGNORE INTO stands (pool, path, file) VALUES (?, ?, ?)`, []any{pool, d.Path, file}})
	}
	return out
}

// count is how what is in a pool is summed up.
func count(pool string) change {
	return change{`UPDATE scans SET (disks, room) = (SELECT count(*), coalesce(sum(room), 0) FROM disks WHERE pool = scans.pool),
		strays = (SELECT count(*) FROM strays WHERE pool = scans.pool) WHERE pool = ?`, []any{pool}}
}

// SetCatalog keeps what lies in a pool, by a look that began then; before is what was on record when it began. Only what differs from that
// is written, in short transactions: the pool is known as of then when the last one is done.
func (s *Store) SetCatalog(ctx context.Context, pool string, before, c catalog.Catalog, began time.Time) error {
	var root string
	if err := s.db.GetContext(ctx, &root, `SELECT folder FROM pools WHERE name = ?`, pool); err != nil {
		return notFound(err)
	}
	disks, err := differing(before.Disks, c.Disks, func(d catalog.Disk) string { return d.Path },
		func(d catalog.Disk, text string) []change { return setDisk(pool, d, text) },
		func(path string) change {
			return change{`DELETE FROM disks WHERE pool = ? AND path = ?`, []any{pool, path}}
		})
	if err != nil {
		return err
	}
	strays, err := differing(before.Strays, c.Strays, func(f catalog.File) string { return f.Name },
		func(f catalog.File, text string) []change {
			return []change{{`INSERT OR REPLACE INTO strays (pool, name, file) VALUES (?, ?, ?)`, []any{pool, f.Name, text}}}
		},
		func(name string) change {
			return change{`DELETE FROM strays WHERE pool = ? AND name = ?`, []any{pool, name}}
		})
	if err != nil {
		return err
	}
	machines, err := differing(before.Machines, c.Machines, func(m catalog.Machine) string { return m.File.Name },
		func(m catalog.Machine, text string) []change { return setMachine(pool, root, m, text) },
		func(path string) change {
			return change{`DELETE FROM machines WHERE pool = ? AND path = ?`, []any{pool, path}}
		})
	if err != nil {
		return err
	}
	missed, err := json.Marshal(append([]catalog.Missed{}, c.Missed...))
	if err != nil {
		return err
	}
	groups := slices.Concat(disks, strays, machines)
	if err := s.write(ctx, groups); err != nil {
		return err
	}
	last := []change{
		{
			`INSERT OR REPLACE INTO scans (pool, at, problem, began, missed) VALUES (?, ?, '', ?, ?)`,
			[]any{pool, stamp(began), stamp(began), string(missed)},
		},
		count(pool),
	}
	return s.write(ctx, [][]change{last})
}

// differing says how what differs from before is written: what is new or changed, as it is and as JSON, and what is gone.
func differing[T any](
	before, now []T,
	name func(T) string,
	set func(v T, text string) []change,
	drop func(name string) change,
) (groups [][]change, err error) {
	old := map[string]T{}
	for _, v := range before {
		old[name(v)] = v
	}
	for _, v := range now {
		was, ok := old[name(v)]
		delete(old, name(v))
		if ok && reflect.DeepEqual(was, v) {
			continue
		}
		b, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		groups = append(groups, set(v, string(b)))
	}
	for gone := range old {
		groups = append(groups, []change{drop(gone)})
	}
	return groups, nil
}

// setMachine is how a definition is written. root is the folder of its pool.
func setMachine(pool, root string, m catalog.Machine, text string) []change {
	file, dir := m.File.Name, path.Dir(m.File.Name)
	out := []change{
		{`DELETE FROM uses WHERE pool = ? AND path = ?`, []any{pool, file}},
		{`INSERT OR REPLACE INTO machines (pool, path, folder, name, machine) VALUES (?, ?, ?, ?, ?)`, []any{pool, file, dir, m.Name, text}},
	}
	for _, used := range m.Uses(path.Join(root, dir)) {
		out = append(out, change{`INSERT OR IGNORE INTO uses (pool, path, file) VALUES (?, ?, ?)`, []any{pool, file, used}})
	}
	return out
}
