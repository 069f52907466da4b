package store

import (
	"cmp"
	"context"
	"time"
)

// ConsentWaits is for how long consent can be given. The plan it is for is kept as long.
const ConsentWaits = 24 * time.Hour

// Consent is something that takes data away for good, which somebody asked for and somebody else has not agreed to yet.
type Consent struct {
	ID    string `db:"id"`
	What  string `db:"what"` // "plan:ID" or "held:POOL/ID"
	Said  string `db:"said"` // what would be gone, in words
	How   string `db:"how"`  // it was asked for, in JSON
	Who   string `db:"who"`  // asked for it: a name, empty for the service's own token
	Asked string `db:"asked"`
}

// By is who asked for it, as is shown.
func (c Consent) By() string { return cmp.Or(c.Who, "the service's own token") }

// AskConsent keeps that somebody asks for consent, and returns it. What was asked for already stays as it was, whoever asks now, as long as
// consent can be given.
func (s *Store) AskConsent(ctx context.Context, c Consent, now time.Time) (Consent, error) {
	_, err := s.writer.ExecContext(
		ctx, `INSERT INTO consents (id, what, said, how, who, asked) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (what) DO UPDATE SET
			id = excluded.id, said = excluded.said, how = excluded.how, who = excluded.who, asked = excluded.asked WHERE asked < ?`,
		c.ID, c.What, c.Said, c.How, c.Who, stamp(now), stamp(now.Add(-ConsentWaits)),
	)
	if err != nil {
		return c, err
	}
	err = s.db.GetContext(ctx, &c, `SELECT * FROM consents WHERE what = ?`, c.What)
	return c, notFound(err)
}

// Consents returns all that wait since a time, the oldest first.
func (s *Store) Consents(ctx context.Context, since time.Time) (all []Consent, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM consents WHERE asked >= ? ORDER BY asked`, stamp(since))
	return all, err
}

// Consent returns one, or ErrNotFound.
func (s *Store) Consent(ctx context.Context, id string) (c Consent, err error) {
	err = s.db.GetContext(ctx, &c, `SELECT * FROM consents WHERE id = ?`, id)
	return c, notFound(err)
}

// EndConsent forgets one that was given or refused, or fails with ErrNotFound.
func (s *Store) EndConsent(ctx context.Context, id string) error {
	return s.one(ctx, `DELETE FROM consents WHERE id = ?`, id)
}
