package store

import "context"

// Way is another way to a pool: its storage, as another computer has it.
type Way struct {
	Pool   string `db:"pool"`
	Host   string `db:"host"`
	Folder string `db:"folder"` // there
}

// AddWay adds one, or changes the folder of one.
func (s *Store) AddWay(ctx context.Context, w Way) error {
	_, err := s.writer.NamedExecContext(
		ctx, `INSERT INTO pool_ways (pool, host, folder) VALUES (:pool, :host, :folder) ON CONFLICT DO UPDATE SET folder = excluded.folder`, w,
	)
	return err
}

// RemoveWay removes one, or fails with ErrNotFound.
func (s *Store) RemoveWay(ctx context.Context, pool, host string) error {
	return s.one(ctx, `DELETE FROM pool_ways WHERE pool = ? AND host = ?`, pool, host)
}

// Ways returns those to a pool, by their hosts.
func (s *Store) Ways(ctx context.Context, pool string) (all []Way, err error) {
	read, err := s.prepared(ctx, `SELECT * FROM pool_ways WHERE pool = ? ORDER BY host`) //nolint:sqlclosecheck // it is kept
	if err == nil {
		err = read.SelectContext(ctx, &all, pool)
	}
	return all, err
}
