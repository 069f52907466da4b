package store

import (
	"context"
)

// Runs says what runs machines on a host.
type Runs struct {
	Host   string `db:"host"`
	Kind   string `db:"kind"`
	Socket string `db:"socket"` // on the host
	URL    string `db:"url"`    // of its API
}

// Running returns the hosts that run machines, by name.
func (s *Store) Running(ctx context.Context) (all []Runs, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM running ORDER BY host`)
	return all, err
}

// SetRuns keeps what runs machines on a host; with an empty kind, that nothing does.
func (s *Store) SetRuns(ctx context.Context, r Runs) error {
	if r.Kind == "" {
		_, err := s.writer.ExecContext(ctx, `DELETE FROM running WHERE host = ?`, r.Host)
		return err
	}
	_, err := s.writer.NamedExecContext(ctx, `INSERT INTO running (host, kind, socket, url) VALUES (:host, :kind, :socket, :url)
		ON CONFLICT (host) DO UPDATE SET kind = excluded.kind, socket = excluded.socket, url = excluded.url`, r)
	return err
}
