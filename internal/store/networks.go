package store

import (
	"context"

	"bagaglio/core/plan"

	"github.com/jmoiron/sqlx"
)

// NetworksBetween are the networks of one host that were last chosen for those of another.
func (s *Store) NetworksBetween(ctx context.Context, from, to string) (map[string]string, error) {
	var rows []struct{ Old, New string }
	if err := s.db.SelectContext(
		ctx,
		&rows,
		`SELECT old, new FROM network_choices WHERE from_host = ? AND to_host = ?`,
		from,
		to,
	); err != nil {
		return nil, err
	}
	chosen := map[string]string{}
	for _, r := range rows {
		chosen[r.Old] = r.New
	}
	return chosen, nil
}

// rememberNetworks keeps those that are chosen with a plan which is started.
func rememberNetworks(ctx context.Context, tx *sqlx.Tx, p plan.Plan) error {
	if p.Machine == nil {
		return nil
	}
	for old, now := range p.Request.Networks {
		_, err := tx.ExecContext(ctx, `INSERT INTO network_choices (from_host, to_host, old, new) VALUES (?, ?, ?, ?)
			ON CONFLICT (from_host, to_host, old) DO UPDATE SET new = excluded.new`, p.Machine.Host, p.Machine.To, old, now)
		if err != nil {
			return err
		}
	}
	return nil
}
