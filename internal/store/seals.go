package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Sealer signs a receipt, and returns its number with the seal.
type Sealer func(done []byte) (number int64, sealed string, err error)

// Seal is a signed receipt.
type Seal struct {
	Number int64  `db:"number"`
	Job    int64  `db:"job"`
	Seal   string `db:"seal"`
}

// Seals returns the seals behind a number, in their order, at most limit.
func (s *Store) Seals(ctx context.Context, after int64, limit int) (seals []Seal, err error) {
	err = s.db.SelectContext(ctx, &seals, `SELECT * FROM seals WHERE number > ? ORDER BY number LIMIT ?`, after, limit)
	return seals, err
}

// SealsEndedIn returns the seals of jobs that ended not before a time and before another one, by their jobs.
func (s *Store) SealsEndedIn(ctx context.Context, since, until time.Time) (map[int64]Seal, error) {
	var seals []Seal
	err := s.db.SelectContext(
		ctx,
		&seals,
		`SELECT seals.* FROM seals JOIN jobs ON jobs.id = seals.job WHERE jobs.finished >= ? AND jobs.finished < ? ORDER BY number`,
		stamp(since), stamp(until),
	)
	by := map[int64]Seal{}
	for _, one := range seals {
		by[one.Job] = one
	}
	return by, err
}

// LastSeal is the one with the highest number, with 0 before there is one.
func (s *Store) LastSeal(ctx context.Context) (last Seal, err error) {
	err = s.db.GetContext(ctx, &last, `SELECT * FROM seals ORDER BY number DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return last, err
}
