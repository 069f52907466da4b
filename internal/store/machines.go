package store

import (
	"context"
	"encoding/json"
	"path"

	"bagaglio/core/catalog"
	"bagaglio/core/plan"
)

// machines returns the definitions that lay in a pool when it was last looked through.
func (s *Store) machines(ctx context.Context, pool string) ([]catalog.Machine, error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, `SELECT machine FROM machines WHERE pool = ? ORDER BY path`, pool); err != nil {
		return nil, err
	}
	machines := make([]catalog.Machine, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row), &machines[i]); err != nil {
			return nil, err
		}
	}
	return machines, nil
}

// Users returns the machines that use one of the files of a pool: their definitions may lie in any pool of its host.
func (s *Store) Users(ctx context.Context, pool string, files []string) (users []plan.User, err error) {
	var root string
	if err := s.db.GetContext(ctx, &root, `SELECT folder FROM pools WHERE name = ?`, pool); err != nil {
		return nil, err
	}
	var whole []string
	for _, f := range files {
		whole = append(whole, path.Join(root, f))
	}
	var rows []struct{ Name, Pool, Machine, Root string }
	err = s.db.SelectContext(
		ctx,
		&rows,
		`SELECT DISTINCT machines.name, machines.pool, machines.machine, pools.folder AS root FROM uses JOIN machines USING (pool, path)
		JOIN pools ON pools.name = uses.pool WHERE uses.file IN `+listed+` AND pools.host = (SELECT host FROM pools WHERE name = ?) ORDER BY machines.name, machines.pool, machines.path`,
		list(whole),
		pool,
	)
	for _, row := range rows {
		var m catalog.Machine
		if err := json.Unmarshal([]byte(row.Machine), &m); err != nil {
			return nil, err
		}
		users = append(users, plan.User{
			Name:   m.Name,
			Pool:   row.Pool,
			Path:   m.File.Name,
			Format: m.Format,
			Folder: path.Join(row.Root, path.Dir(m.File.Name)),
			Files:  m.Files(),
			Sealed: m.Sealed,
		})
	}
	return users, err
}

// UserNames returns the names of the machines that use files of a pool, by those.
func (s *Store) UserNames(ctx context.Context, pool string, files []string) (map[string][]string, error) {
	return s.pairs(ctx, `SELECT wanted.value AS a, machines.name AS b FROM json_each(?) AS wanted JOIN pools AS here ON here.name = ?
		JOIN uses ON uses.file = rtrim(here.folder, '/') || '/' || wanted.value JOIN machines ON machines.pool = uses.pool AND machines.path = uses.path
		JOIN pools ON pools.name = uses.pool AND pools.host = here.host
		ORDER BY machines.name`, list(files), pool)
}

// Defining returns those of some files of a pool that define machines.
func (s *Store) Defining(ctx context.Context, pool string, files []string) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT path FROM machines WHERE pool = ? AND path IN `+listed+` ORDER BY path`, pool, list(files))
	return names, err
}

// MachinesBy returns the names of the machines whose definitions lie in folders of a pool, by those.
func (s *Store) MachinesBy(ctx context.Context, pool string, folders []string) (map[string][]string, error) {
	return s.pairs(
		ctx,
		`SELECT folder AS a, name AS b FROM machines WHERE pool = ? AND folder IN `+listed+` ORDER BY name`,
		pool,
		list(folders),
	)
}

// MachinesIn returns the names of the machines whose definitions lie in a folder of a pool.
func (s *Store) MachinesIn(ctx context.Context, pool, folder string) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT DISTINCT name FROM machines WHERE pool = ? AND folder = ? ORDER BY name`, pool, folder)
	return names, err
}

// orphaned is the condition for a disk that no machine uses, neither itself nor by what stands on it, on a host of which machines are
// known.
const orphaned = ` AND EXISTS (SELECT 1 FROM machines JOIN pools ON pools.name = machines.pool WHERE pools.host = (SELECT host FROM pools WHERE name = disks.pool))
	AND NOT EXISTS (
		SELECT 1 FROM uses JOIN pools AS theirs ON theirs.name = uses.pool JOIN pools AS here ON here.name = disks.pool AND here.host = theirs.host
		WHERE uses.file IN (
			SELECT rtrim(here.folder, '/') || '/' || disks.path
			UNION ALL SELECT rtrim(here.folder, '/') || '/' || stands.path FROM stands WHERE stands.pool = disks.pool AND stands.file = disks.path
			UNION ALL SELECT rtrim(other.folder, '/') || '/' || stands.path FROM pools AS other JOIN stands ON stands.pool = other.name
				WHERE other.host = here.host AND stands.file = rtrim(here.folder, '/') || '/' || disks.path))`
