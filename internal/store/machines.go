package store

import (
	"context"
	"encoding/json"
	"path"

	"bagaglio/core/catalog"
	"bagaglio/core/plan"

	"github.com/jmoiron/sqlx"
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

// setMachines keeps the definitions in a pool.
func setMachines(ctx context.Context, tx *sqlx.Tx, pool string, machines []catalog.Machine) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM machines WHERE pool = ?`, pool); err != nil {
		return err
	}
	var root string
	if err := tx.GetContext(ctx, &root, `SELECT folder FROM pools WHERE name = ?`, pool); err != nil {
		return err
	}
	for _, m := range machines {
		b, err := json.Marshal(m)
		if err != nil {
			return err
		}
		dir := path.Dir(m.File.Name)
		if _, err := tx.ExecContext(ctx, `INSERT INTO machines (pool, path, folder, name, machine) VALUES (?, ?, ?, ?, ?)`, pool, m.File.Name, dir, m.Name, string(b)); err != nil {
			return err
		}
		for _, file := range m.Uses(path.Join(root, dir)) {
			if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO uses (pool, path, file) VALUES (?, ?, ?)`, pool, m.File.Name, file); err != nil {
				return err
			}
		}
	}
	return nil
}

// Users returns the machines that use one of the files of a pool: their definitions may lie in any pool of its host.
func (s *Store) Users(ctx context.Context, pool string, files []string) (users []plan.User, err error) {
	var root string
	if err := s.db.GetContext(ctx, &root, `SELECT folder FROM pools WHERE name = ?`, pool); err != nil {
		return nil, err
	}
	whole := []string{""}
	for _, f := range files {
		whole = append(whole, path.Join(root, f))
	}
	query, args, err := sqlx.In(`SELECT DISTINCT machines.name, machines.pool, machines.machine, pools.folder AS root FROM uses JOIN machines USING (pool, path) JOIN pools ON pools.name = uses.pool
		WHERE uses.file IN (?) AND pools.host = (SELECT host FROM pools WHERE name = ?) ORDER BY machines.name, machines.pool, machines.path`, whole, pool)
	if err != nil {
		return nil, err
	}
	var rows []struct{ Name, Pool, Machine, Root string }
	err = s.db.SelectContext(ctx, &rows, query, args...)
	for _, row := range rows {
		var m catalog.Machine
		if err := json.Unmarshal([]byte(row.Machine), &m); err != nil {
			return nil, err
		}
		users = append(users, plan.User{
			Name: m.Name, Pool: row.Pool, Path: m.File.Name, Format: m.Format, Folder: path.Join(row.Root, path.Dir(m.File.Name)), Files: m.Files(), Sealed: m.Sealed,
		})
	}
	return users, err
}

// MachinesIn returns the names of the machines whose definitions lie in a folder of a pool.
func (s *Store) MachinesIn(ctx context.Context, pool, folder string) (names []string, err error) {
	err = s.db.SelectContext(ctx, &names, `SELECT DISTINCT name FROM machines WHERE pool = ? AND folder = ? ORDER BY name`, pool, folder)
	return names, err
}

// orphaned is the condition for a disk that no machine uses, neither itself nor by what stands on it, on a host of which machines are known.
const orphaned = ` AND EXISTS (SELECT 1 FROM machines JOIN pools ON pools.name = machines.pool WHERE pools.host = (SELECT host FROM pools WHERE name = disks.pool))
	AND NOT EXISTS (
		SELECT 1 FROM uses JOIN pools AS theirs ON theirs.name = uses.pool JOIN pools AS here ON here.name = disks.pool AND here.host = theirs.host
		WHERE uses.file IN (
			SELECT rtrim(here.folder, '/') || '/' || disks.path
			UNION ALL SELECT rtrim(here.folder, '/') || '/' || stands.path FROM stands WHERE stands.pool = disks.pool AND stands.file = disks.path))`
