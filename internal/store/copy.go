package store

import (
	"context"
	"errors"
	"fmt"
	"net/url"

	"modernc.org/sqlite"
)

// Copier makes copies of the records as they are at a moment, page by page. One at a time uses it; close it.
type Copier struct {
	store *Store
	conn  interface {
		Raw(func(any) error) error
		Close() error
	}
	version func(context.Context) (int64, error)
	copied  int64 // the version of the last copy
}

// NewCopier returns one.
func (s *Store) NewCopier(ctx context.Context) (*Copier, error) {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return nil, err
	}
	version := func(ctx context.Context) (v int64, err error) {
		err = conn.GetContext(ctx, &v, `PRAGMA data_version`) // what others have written, as this connection sees it
		return v, err
	}
	return &Copier{store: s, conn: conn.Conn, version: version}, nil
}

// Copy copies the records to a file, unless nothing was written since the last time.
func (c *Copier) Copy(ctx context.Context, file string) (changed bool, err error) {
	version, err := c.version(ctx)
	if err != nil || version == c.copied {
		return false, err
	}
	err = c.conn.Raw(func(driver any) error {
		from, ok := driver.(interface {
			NewBackup(string) (*sqlite.Backup, error)
		})
		if !ok {
			return errors.ErrUnsupported
		}
		b, err := from.NewBackup("file:" + (&url.URL{Path: file}).EscapedPath() + "?_pragma=synchronous(OFF)")
		if err != nil {
			return err
		}
		_, err = b.Step(-1)
		return errors.Join(err, b.Finish())
	})
	if err != nil {
		return false, fmt.Errorf("copying the records: %w", err)
	}
	c.copied = version
	return true, nil
}

// Close gives its connection back.
func (c *Copier) Close() error { return c.conn.Close() }

// termSetting keeps how often a service took over the records of another one.
const termSetting = "recovery-term"

// BeginTerm has claims of an earlier time of the records, of which some may have been lost, be worth nothing: epochs go on far behind them. It does so once for a term.
func (s *Store) BeginTerm(ctx context.Context, term int64) error {
	was, err := s.Setting(ctx, termSetting)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if was == fmt.Sprint(term) {
		return nil
	}
	if _, err := s.writer.ExecContext(ctx, `UPDATE jobs SET epoch = ? + epoch % ?`, term*termEpochs, termEpochs); err != nil {
		return err
	}
	return s.SetSetting(ctx, termSetting, fmt.Sprint(term))
}

// termEpochs is how many epochs a term has.
const termEpochs = 1 << 32

// Check looks whether the records are whole, and tells how many jobs there are by states, and how many receipts.
func (s *Store) Check(ctx context.Context) (jobs map[string]int, receipts int64, err error) {
	var said string
	if err := s.db.GetContext(ctx, &said, `PRAGMA integrity_check(1)`); err != nil || said != "ok" {
		return nil, 0, fmt.Errorf("checking the records: %s: %w", said, err)
	}
	var rows []struct {
		State string `db:"state"`
		Count int    `db:"count"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT state, count(*) AS count FROM jobs GROUP BY state`); err != nil {
		return nil, 0, err
	}
	jobs = map[string]int{}
	for _, r := range rows {
		jobs[r.State] = r.Count
	}
	last, err := s.LastSeal(ctx)
	return jobs, last.Number, err
}
