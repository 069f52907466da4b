// Package store keeps the service's records in SQLite.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is the error for a record that is not there.
var ErrNotFound = errors.New("not found")

// ErrTaken is the error for a name or folder that another record has.
var ErrTaken = errors.New("taken already")

// ErrUnwritable is for a file beside the database that cannot be written.
var ErrUnwritable = errors.New("the state folder cannot be written")

// CannotWrite tells whether an error says that the records cannot be written, or read, at present: they are locked by another program,
// their disk is full, read-only or does not work. What was to be written may be so later.
func CannotWrite(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return errors.Is(err, ErrUnwritable)
	}
	switch e.Code() & 0xff { // the rest of an extended code says more about it (sqlite.org/rescode.html)
	case lib.SQLITE_BUSY, lib.SQLITE_LOCKED, lib.SQLITE_FULL, lib.SQLITE_IOERR, lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN, lib.SQLITE_NOMEM:
		return true
	}
	return false
}

// Store is the database. It is safe for concurrent use.
type Store struct {
	db *sqlx.DB
	// writer is one more connection, by which everything is written: who waits for another one of us does so in a queue, and not by asking
	// SQLite again and again.
	writer  *sqlx.DB
	often   sync.Map // statements that are needed for each job, prepared, by their text
	longest longest
}

// longest is the longest time that something took, in nanoseconds.
type longest struct{ atomic.Int64 }

func (l *longest) note(begin time.Time) {
	for took := int64(time.Since(begin)); ; {
		if was := l.Load(); was >= took || l.CompareAndSwap(was, took) {
			return
		}
	}
}

// LongestWrite is the longest time for which one transaction kept others from writing.
func (s *Store) LongestWrite() time.Duration { return time.Duration(s.longest.Load()) }

// mostConnections bounds how many are open at once: each has files open, and memory.
const mostConnections = 16

// Open opens the database in file, makes it if it is not there, and brings it to the present version.
func Open(ctx context.Context, file string) (*Store, error) {
	// The database holds hashes of secrets: nobody else reads it.
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the records: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	s := &Store{}
	if s.db, err = connect(file, mostConnections); err == nil {
		s.writer, err = connect(file, 1)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the records in %s: %w", file, err)
	}
	if err := migrate(ctx, s.writer.DB, file); err != nil {
		return nil, errors.Join(fmt.Errorf("bringing the records in %s up to date: %w", file, err), s.Close())
	}
	return s, nil
}

// connect prepares so many connections; none is made before it is needed.
func connect(file string, most int) (*sqlx.DB, error) {
	db, err := sqlx.Open(
		"sqlite",
		"file:"+(&url.URL{Path: file}).EscapedPath()+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_pragma=busy_timeout(2000)&_txlock=immediate",
	)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(most)
	db.SetMaxIdleConns(most)
	return db, nil
}

// before is what a copy of the records is called that is made before they are brought to another form: with the number of theirs.
const before = ".before-"

// migrate brings the records to the form that this version knows. They are copied before, for whoever wants to go back to the earlier version.
func migrate(ctx context.Context, db *sql.DB, file string) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return err
	}
	is, known, err := p.GetVersions(ctx)
	if err != nil {
		return err
	}
	if is > known {
		return fmt.Errorf("they are of a later version of Bagaglio (their form is %d, and this one knows %d): "+
			"install that version again, or put a copy of the records from before into their place (%s%s%d, say)", is, known, file, before, known)
	}
	if is > 0 && is < known {
		if err := keepOld(ctx, db, file, fmt.Sprintf("%s%s%d", file, before, is)); err != nil {
			return fmt.Errorf("copying them before: %w", err)
		}
	}
	_, err = p.Up(ctx)
	return err
}

// mostOld is how many copies of records of earlier forms are kept: an update that was cut off makes one more when it goes on.
const mostOld = 3

// keepOld copies the records of an earlier form, and removes the oldest copies.
func keepOld(ctx context.Context, db *sql.DB, file, as string) error {
	half := as + ".new"
	if err := os.Remove(half); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, half); err != nil {
		return err
	}
	if err := errors.Join(os.Chmod(half, 0o600), os.Rename(half, as)); err != nil {
		return err
	}
	old, err := filepath.Glob(file + before + "*")
	if err != nil {
		return err
	}
	number := func(name string) int {
		n, _ := strconv.Atoi(strings.TrimPrefix(name, file+before)) // what is none of ours comes first
		return n
	}
	slices.SortFunc(old, func(a, b string) int { return number(a) - number(b) })
	for _, name := range old[:max(0, len(old)-mostOld)] {
		err = errors.Join(err, os.Remove(name))
	}
	return err
}

// prepared is a statement that is needed often: preparing it takes longer than doing it.
func (s *Store) prepared(ctx context.Context, query string) (*sqlx.Stmt, error) {
	if known, ok := s.often.Load(query); ok {
		return known.(*sqlx.Stmt), nil
	}
	made, err := s.db.PreparexContext(ctx, query)
	if err != nil {
		return nil, err
	}
	known, was := s.often.LoadOrStore(query, made)
	if was {
		err = made.Close() //nolint:sqlclosecheck // the other one is kept
	}
	return known.(*sqlx.Stmt), err
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.writer.Close(), s.db.Close()) }

// notFound turns the driver's error for no row into ours.
func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// stamp writes a time as it is kept: UTC, so that text order is time order.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Setting returns a setting, or ErrNotFound.
func (s *Store) Setting(ctx context.Context, name string) (value string, err error) {
	err = s.db.GetContext(ctx, &value, `SELECT value FROM settings WHERE name = ?`, name)
	return value, notFound(err)
}

// Settings returns those whose names begin with something, by their names.
func (s *Store) Settings(ctx context.Context, prefix string) (map[string]string, error) {
	var rows []struct{ Name, Value string }
	err := s.db.SelectContext(ctx, &rows, `SELECT name, value FROM settings WHERE substr(name, 1, length(?1)) = ?1`, prefix)
	out := map[string]string{}
	for _, r := range rows {
		out[r.Name] = r.Value
	}
	return out, err
}

// DropSetting forgets a setting.
func (s *Store) DropSetting(ctx context.Context, name string) error {
	_, err := s.writer.ExecContext(ctx, `DELETE FROM settings WHERE name = ?`, name)
	return err
}

// SetSetting keeps a setting.
func (s *Store) SetSetting(ctx context.Context, name, value string) error {
	_, err := s.writer.ExecContext(
		ctx,
		`INSERT INTO settings (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`,
		name,
		value,
	)
	return err
}
