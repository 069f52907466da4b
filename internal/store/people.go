package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Known is somebody who signs in by name and password.
type Known struct {
	Name     string `db:"name"`
	Role     string `db:"role"`
	Password string `db:"password"` // its hash
	Created  string `db:"created"`
	Used     string `db:"used"` // when they signed in last; empty for never
	WorksOn  string `db:"works_on"`
}

// AddPerson keeps somebody, or fails with ErrTaken.
func (s *Store) AddPerson(ctx context.Context, k Known) error {
	err := changed(s.writer.ExecContext(
		ctx,
		`INSERT INTO people (name, role, password, created, used, works_on)
			SELECT ?, ?, ?, ?, '', ? WHERE NOT EXISTS (SELECT 1 FROM tokens WHERE name = ?) ON CONFLICT (name) DO NOTHING`,
		k.Name, k.Role, k.Password, k.Created, k.WorksOn, k.Name,
	))
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("the name %q is %w, by somebody or by a token", k.Name, ErrTaken)
	}
	return err
}

// People returns all, by their names.
func (s *Store) People(ctx context.Context) (all []Known, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM people ORDER BY name`)
	return all, err
}

// Person returns somebody, or ErrNotFound.
func (s *Store) Person(ctx context.Context, name string) (k Known, err error) {
	err = s.db.GetContext(ctx, &k, `SELECT * FROM people WHERE name = ?`, name)
	return k, notFound(err)
}

// ChangePerson keeps somebody's new role, or the hash of a new password, each where it is not empty, and where they may work unless that is nil. It fails with
// ErrNotFound.
func (s *Store) ChangePerson(ctx context.Context, name, role, password string, worksOn *string) error {
	return s.one(
		ctx,
		`UPDATE people SET role = coalesce(nullif(?, ''), role), password = coalesce(nullif(?, ''), password), works_on = coalesce(?, works_on) WHERE name = ?`,
		role,
		password,
		worksOn,
		name,
	)
}

// UsePerson notes when somebody signed in last, where they may as they did: with that role, that hash of a password, and there. It fails with ErrNotFound.
func (s *Store) UsePerson(ctx context.Context, k Known) error {
	return s.one(ctx, `UPDATE people SET used = ? WHERE name = ? AND role = ? AND password = ? AND works_on = ?`,
		k.Used, k.Name, k.Role, k.Password, k.WorksOn)
}

// RemovePerson forgets somebody, or fails with ErrNotFound.
func (s *Store) RemovePerson(ctx context.Context, name string) error {
	return s.one(ctx, `DELETE FROM people WHERE name = ?`, name)
}

// Session is a session of the console. Who is the name of whose it is, empty for that of the service's own token.
type Session struct {
	ID      string
	Who     string
	Role    string
	Origin  string // the address that it was begun from
	Begun   time.Time
	Expires time.Time
	WorksOn string
}

type sessionRow struct {
	ID      string `db:"id"`
	Who     string `db:"who"`
	Role    string `db:"role"`
	Origin  string `db:"origin"`
	Begun   string `db:"begun"`
	Expires string `db:"expires"`
	WorksOn string `db:"works_on"`
}

const sessionColumns = `id, who, role, origin, begun, expires, works_on`

func (r sessionRow) session() (of Session, err error) {
	of = Session{ID: r.ID, Who: r.Who, Role: r.Role, Origin: r.Origin, WorksOn: r.WorksOn}
	if of.Begun, err = time.Parse(time.RFC3339Nano, r.Begun); err != nil {
		return of, err
	}
	of.Expires, err = time.Parse(time.RFC3339Nano, r.Expires)
	return of, err
}

// AddSession keeps a session by the hash of its secret, and drops those that have expired.
func (s *Store) AddSession(ctx context.Context, of Session, hash string) error {
	_, err := s.writer.ExecContext(
		ctx, `INSERT INTO sessions (hash, id, who, role, origin, begun, expires, works_on) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		hash, of.ID, of.Who, of.Role, of.Origin, stamp(of.Begun), stamp(of.Expires), of.WorksOn,
	)
	if err == nil {
		_, err = s.writer.ExecContext(ctx, `DELETE FROM sessions WHERE expires < ?`, stamp(of.Begun))
	}
	return err
}

// Session returns the session with that hash that has not expired, or ErrNotFound.
func (s *Store) Session(ctx context.Context, hash string, now time.Time) (of Session, err error) {
	var row sessionRow
	err = s.db.GetContext(ctx, &row, `SELECT `+sessionColumns+` FROM sessions WHERE hash = ? AND expires >= ?`, hash, stamp(now))
	if err != nil {
		return of, notFound(err)
	}
	return row.session()
}

// Sessions returns those that have not expired, the newest first.
func (s *Store) Sessions(ctx context.Context, now time.Time) (all []Session, err error) {
	var rows []sessionRow
	err = s.db.SelectContext(ctx, &rows, `SELECT `+sessionColumns+` FROM sessions WHERE expires >= ? ORDER BY begun DESC`, stamp(now))
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		of, err := r.session()
		if err != nil {
			return nil, err
		}
		all = append(all, of)
	}
	return all, nil
}

// RemoveSession ends a session, or fails with ErrNotFound.
func (s *Store) RemoveSession(ctx context.Context, id string) error {
	return s.one(ctx, `DELETE FROM sessions WHERE id = ?`, id)
}

// RemoveSessionsOf ends the sessions of somebody, but for one; an empty one is none.
func (s *Store) RemoveSessionsOf(ctx context.Context, who, but string) error {
	_, err := s.writer.ExecContext(ctx, `DELETE FROM sessions WHERE who = ? AND id <> ?`, who, but)
	return err
}
