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
}

type tokenRow struct {
	Name    string `db:"name"`
	Role    string `db:"role"`
	Created string `db:"created"`
	Expires string `db:"expires"`
	Used    string `db:"used"`
}

func (r tokenRow) token() (t Token, err error) {
	t = Token{Name: r.Name, Role: r.Role}
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
	err := changed(s.db.ExecContext(
		ctx,
		`INSERT INTO tokens (name, hash, role, created, expires, used) VALUES (?, ?, ?, ?, ?, '') ON CONFLICT (name) DO NOTHING`,
		t.Name, hash, t.Role, stamp(t.Created), expires,
	))
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("the name %q is %w, by another token", t.Name, ErrTaken)
	}
	return err
}

// Tokens returns all, by their names.
func (s *Store) Tokens(ctx context.Context) (all []Token, err error) {
	var rows []tokenRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, role, created, expires, used FROM tokens ORDER BY name`); err != nil {
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
		ctx, &r, `SELECT name, role, created, expires, used FROM tokens WHERE hash = ? AND (expires = '' OR expires >= ?)`, hash, stamp(now),
	)
	if err != nil {
		return t, notFound(err)
	}
	if t, err = r.token(); err != nil || t.Used != nil && now.Sub(*t.Used) < usedWithin {
		return t, err
	}
	_, err = s.db.ExecContext(ctx, `UPDATE tokens SET used = ? WHERE name = ?`, stamp(now), t.Name)
	return t, err
}

// RemoveToken forgets a token, and ends the sessions that came of it.
func (s *Store) RemoveToken(ctx context.Context, name string) error {
	if err := changed(s.db.ExecContext(ctx, `DELETE FROM tokens WHERE name = ?`, name)); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE who = ?`, name)
	return err
}

// Session is whose a session is: the name of a token, empty for that of the service, and its role.
type Session struct {
	Who, Role string
	Expires   time.Time
}

// AddSession keeps a session by the hash of its secret, and drops those that have expired.
func (s *Store) AddSession(ctx context.Context, of Session, hash string, now time.Time) error {
	_, err := s.db.ExecContext(
		ctx, `INSERT INTO sessions (hash, expires, who, role) VALUES (?, ?, ?, ?)`, hash, stamp(of.Expires), of.Who, of.Role,
	)
	if err == nil {
		_, err = s.db.ExecContext(ctx, `DELETE FROM sessions WHERE expires < ?`, stamp(now))
	}
	return err
}

// Session returns whose a session is that has not expired, or ErrNotFound.
func (s *Store) Session(ctx context.Context, hash string, now time.Time) (of Session, err error) {
	var row struct {
		Who     string `db:"who"`
		Role    string `db:"role"`
		Expires string `db:"expires"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT who, role, expires FROM sessions WHERE hash = ? AND expires >= ?`, hash, stamp(now))
	if err != nil {
		return of, notFound(err)
	}
	of.Who, of.Role = row.Who, row.Role
	of.Expires, err = time.Parse(time.RFC3339Nano, row.Expires)
	return of, err
}

// RemoveSession ends a session.
func (s *Store) RemoveSession(ctx context.Context, hash string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE hash = ?`, hash)
	return err
}
