package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Token lets somebody in, with a role.
type Token struct {
	Name, Role string
	Created    time.Time
	Expires    *time.Time // nil for never
	Used       *time.Time // last; nil for never
	WorksOn    string     // pool:NAME and host:NAME with spaces between, or empty for everywhere
}

type tokenRow struct {
	Name    string `db:"name"`
	Role    string `db:"role"`
	Created string `db:"created"`
	Expires string `db:"expires"`
	Used    string `db:"used"`
	WorksOn string `db:"works_on"`
}

func (r tokenRow) token() (t Token, err error) {
	t = Token{Name: r.Name, Role: r.Role, WorksOn: r.WorksOn}
	if t.Created, err = time.Parse(time.RFC3339Nano, r.Created); err != nil {
		return t, err
	}
	if t.Expires, err = optionalTime(orNone(r.Expires)); err != nil {
		return t, err
	}
	t.Used, err = optionalTime(orNone(r.Used))
	return t, err
}

func orNone(text string) sql.NullString { return sql.NullString{String: text, Valid: text != ""} }

// AddToken keeps a token by the hash of its secret, or fails with ErrTaken.
func (s *Store) AddToken(ctx context.Context, t Token, hash string) error {
	expires := ""
	if t.Expires != nil {
		expires = stamp(*t.Expires)
	}
	err := changed(s.writer.ExecContext(
		ctx,
		`INSERT INTO tokens (name, hash, role, created, expires, used, works_on)
			SELECT ?, ?, ?, ?, ?, '', ? WHERE NOT EXISTS (SELECT 1 FROM people WHERE name = ?) ON CONFLICT (name) DO NOTHING`,
		t.Name, hash, t.Role, stamp(t.Created), expires, t.WorksOn, t.Name,
	))
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("the name %q is %w, by another token or by somebody who signs in", t.Name, ErrTaken)
	}
	return err
}

// Tokens returns all, by their names.
func (s *Store) Tokens(ctx context.Context) (all []Token, err error) {
	var rows []tokenRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, role, created, expires, used, works_on FROM tokens ORDER BY name`); err != nil {
		return nil, err
	}
	for _, r := range rows {
		t, err := r.token()
		if err != nil {
			return nil, err
		}
		all = append(all, t)
	}
	return all, nil
}

// usedWithin is how exactly the last use of a token is kept.
const usedWithin = time.Minute

// UseToken returns the token with that hash that has not expired, or ErrNotFound, and notes that it was used.
func (s *Store) UseToken(ctx context.Context, hash string, now time.Time) (t Token, err error) {
	var r tokenRow
	err = s.db.GetContext(
		ctx,
		&r,
		`SELECT name, role, created, expires, used, works_on FROM tokens WHERE hash = ? AND (expires = '' OR expires >= ?)`,
		hash,
		stamp(now),
	)
	if err != nil {
		return t, notFound(err)
	}
	if t, err = r.token(); err != nil || t.Used != nil && now.Sub(*t.Used) < usedWithin {
		return t, err
	}
	_, err = s.writer.ExecContext(ctx, `UPDATE tokens SET used = ? WHERE name = ?`, stamp(now), t.Name)
	return t, err
}

// HasToken tells whether a token has a name.
func (s *Store) HasToken(ctx context.Context, name string) (yes bool, err error) {
	err = s.db.GetContext(ctx, &yes, `SELECT EXISTS (SELECT 1 FROM tokens WHERE name = ?)`, name)
	return yes, err
}

// RemoveToken forgets a token, or fails with ErrNotFound.
func (s *Store) RemoveToken(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM tokens WHERE name = ?`, name)
}
