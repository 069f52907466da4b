package store

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/catalog"
)

func (s *Store) disks(ctx context.Context, query string, args ...any) ([]catalog.Disk, error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	disks := make([]catalog.Disk, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row), &disks[i]); err != nil {
			return nil, fmt.Errorf("reading what is known of a disk: %w", err)
		}
	}
	return disks, nil
}

// Strays returns files of a pool that belong to no disk, by their names, behind one; at most limit, or all when that is negative.
func (s *Store) Strays(ctx context.Context, pool, behind string, limit int) ([]catalog.File, error) {
	var rows []string
	err := s.db.SelectContext(ctx, &rows, `SELECT file FROM strays WHERE pool = ? AND name > ? ORDER BY name LIMIT ?`, pool, behind, limit)
	if err != nil {
		return nil, err
	}
	files := make([]catalog.File, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row), &files[i]); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// DiskQuery says which disks of a pool are wanted.
type DiskQuery struct {
	Search     string // a part of the path, or of what people call it or note on it
	Only       string // OnlyBroken, OnlyOverlays, OnlyBases, OnlyOrphans, or empty for all
	Sort       string // a column; empty for the path
	Descending bool
	Cursor     string // behind which they are, as it was returned; empty for the first
	Limit      int
}

// ErrCursor is the error for a cursor that is none.
var ErrCursor = errors.New("the cursor is none that a list of this kind gave")

// behind is what a cursor says: the value that disks are sorted by, and the path, of the last one that was returned.
type behind struct {
	By   any    `json:"by"`
	Path string `json:"path"`
}

func (b behind) String() string {
	text, err := json.Marshal(b)
	if err != nil {
		panic(err) // only for values that no column has
	}
	return base64.RawURLEncoding.EncodeToString(text)
}

func parseBehind(cursor string) (b behind, err error) {
	text, err := base64.RawURLEncoding.DecodeString(cursor)
	if err == nil {
		d := json.NewDecoder(bytes.NewReader(text))
		d.UseNumber()
		err = d.Decode(&b)
	}
	if err != nil {
		return b, ErrCursor
	}
	if n, ok := b.By.(json.Number); ok {
		if b.By, err = n.Int64(); err != nil {
			return b, ErrCursor
		}
	}
	switch b.By.(type) {
	case string, int64:
	default:
		return b, ErrCursor
	}
	return b, nil
}

// What of a pool is wanted.
const (
	OnlyBroken   = "broken"
	OnlyOverlays = "overlays"
	OnlyBases    = "bases"
	OnlyOrphans  = "orphans"
)

// onlys are the conditions of what is wanted.
var onlys = map[string]string{
	"":           "",
	OnlyBroken:   ` AND broken = 1`,
	OnlyOverlays: ` AND EXISTS (SELECT 1 FROM stands WHERE stands.pool = disks.pool AND stands.path = disks.path)`,
	OnlyBases:    ` AND EXISTS (SELECT 1 FROM stands WHERE stands.pool = disks.pool AND stands.file = disks.path)`,
	OnlyOrphans:  orphaned,
}

// sorts are the columns to sort by.
var sorts = map[string]string{
	"":               "path",
	"path":           "path",
	"virtual_size":   "virtual_size",
	"allocated_size": "allocated_size",
	"file_size":      "file_size",
	"room":           "room",
	"modified":       "modified",
}

// like is the pattern that finds a text anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

// Disks returns disks of a pool as they were when it was last looked through, the cursor of the next ones, empty with the last, and how many
// there are of that kind.
func (s *Store) Disks(ctx context.Context, pool string, q DiskQuery) (disks []catalog.Disk, next string, total int, err error) {
	sort, okSort := sorts[q.Sort]
	only, okOnly := onlys[q.Only]
	if !okSort || !okOnly {
		return nil, "", 0, fmt.Errorf("disks cannot be sorted by %q or looked for by %q", q.Sort, q.Only)
	}
	where, args := ` FROM disks INDEXED BY disks_in_short WHERE pool = ?`+only, []any{pool}
	if q.Search != "" {
		where += ` AND (path LIKE ? ESCAPE '\' OR json_extract(disk, '$.called') LIKE ? ESCAPE '\' OR json_extract(disk, '$.note') LIKE ? ESCAPE '\'
			OR EXISTS (SELECT 1 FROM called WHERE called.pool = disks.pool AND called.path = disks.path
				AND (called.called LIKE ? ESCAPE '\' OR called.note LIKE ? ESCAPE '\')))`
		pattern := like(q.Search)
		args = append(args, pattern, pattern, pattern, pattern, pattern)
	}
	counted, of := `SELECT count(*)`+where, args
	if q.Search == "" && q.Only == "" { // it was counted when the pool was looked through
		counted, of = `SELECT coalesce(max(disks), 0) FROM scans WHERE pool = ?`, []any{pool}
	}
	if err := s.db.GetContext(ctx, &total, counted, of...); err != nil {
		return nil, "", 0, err
	}
	order, further := "ASC", ">"
	if q.Descending {
		order, further = "DESC", "<"
	}
	if q.Cursor != "" {
		b, err := parseBehind(q.Cursor)
		if err != nil {
			return nil, "", 0, err
		}
		where += ` AND (` + sort + ` ` + further + ` ? OR ` + sort + ` = ? AND path > ?)`
		args = append(args[:len(args):len(args)], b.By, b.By, b.Path)
	}
	var rows []struct {
		By   any
		Path string
		Disk string
	}
	err = s.db.SelectContext(
		ctx,
		&rows,
		`SELECT page.sorted AS by, page.path, disk FROM (SELECT path, `+sort+` AS sorted`+where+` ORDER BY `+sort+` `+order+`, path LIMIT ?) AS page
		CROSS JOIN disks AS whole ON whole.pool = ? AND whole.path = page.path ORDER BY page.sorted `+order+`, page.path`,
		append(args, q.Limit, pool)...)
	if err != nil {
		return nil, "", 0, err
	}
	disks = make([]catalog.Disk, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row.Disk), &disks[i]); err != nil {
			return nil, "", 0, fmt.Errorf("reading what is known of a disk: %w", err)
		}
	}
	if n := len(rows); n == q.Limit {
		next = behind{rows[n-1].By, rows[n-1].Path}.String()
	}
	return disks, next, total, nil
}

// DisksAt returns those of some disks of a pool that are on record, by their paths.
func (s *Store) DisksAt(ctx context.Context, pool string, paths []string) (map[string]catalog.Disk, error) {
	found, err := s.disks(ctx, `SELECT disk FROM disks WHERE pool = ? AND path IN `+listed, pool, list(paths))
	out := map[string]catalog.Disk{}
	for _, d := range found {
		out[d.Path] = d
	}
	return out, err
}

// DisksWithFilesIn returns the paths of the disks of a pool that have files directly in a folder, by those files.
func (s *Store) DisksWithFilesIn(ctx context.Context, pool, dir string) (map[string]string, error) {
	from, to := "", "\U0010ffff"
	if dir != "." {
		from, to = dir+"/", dir+"0" // behind the slash
	}
	disks, err := s.disks(ctx, `SELECT disk FROM disks WHERE pool = ? AND path >= ? AND path < ?`, pool, from, to)
	if err != nil {
		return nil, err
	}
	more, err := s.disks(
		ctx,
		`SELECT disk FROM disks, json_each(disk, '$.files') AS file WHERE pool = ? AND json_extract(file.value, '$.name') >= ?
		AND json_extract(file.value, '$.name') < ? AND NOT (disks.path >= ? AND disks.path < ?)`,
		pool,
		from,
		to,
		from,
		to,
	)
	of := map[string]string{}
	for _, d := range append(disks, more...) {
		of[d.Path] = d.Path
		for _, f := range d.Files {
			of[f.Name] = d.Path
		}
	}
	return of, err
}

// Standing returns the disks that stand on files of a pool: of the pool by their paths, and of others of its host as POOL:PATH.
func (s *Store) Standing(ctx context.Context, pool string, files []string) (names []string, err error) {
	by, err := s.StandingOn(ctx, pool, files)
	for _, on := range by {
		names = append(names, on...)
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// StandingOn returns the disks that stand on files of a pool, by those, named as by Standing.
func (s *Store) StandingOn(ctx context.Context, pool string, files []string) (map[string][]string, error) {
	out, err := s.pairs(ctx, `SELECT file AS a, path AS b FROM stands WHERE pool = ? AND file IN `+listed+` ORDER BY path`, pool, list(files))
	if err != nil {
		return nil, err
	}
	here, err := s.Pool(ctx, pool)
	if err != nil {
		return nil, err
	}
	at, paths := map[string]string{}, []string{}
	for _, file := range files {
		for _, p := range here.Ground().Paths(file) {
			at[p], paths = file, append(paths, p)
		}
	}
	var rows []struct{ File, Pool, Path, Folder string }
	err = s.db.SelectContext(
		ctx,
		&rows,
		`SELECT stands.file, stands.pool, stands.path, pools.folder FROM pools JOIN stands ON stands.pool = pools.name
		WHERE pools.host = ? AND pools.name != ? AND stands.file IN `+listed+` ORDER BY stands.pool, stands.path`,
		here.Host,
		pool,
		list(paths),
	)
	for _, r := range rows {
		if _, inside := here.Ground().Name(path.Join(r.Folder, r.Path)); !inside { // otherwise it is one of this pool
			out[at[r.File]] = append(out[at[r.File]], r.Pool+":"+r.Path)
		}
	}
	return out, err
}

// listed is a list of texts in a statement, whose argument [list] makes: of any length, and the statement stays the same.
const listed = `(SELECT value FROM json_each(?))`

func list(texts []string) string {
	if len(texts) == 0 {
		return "[]"
	}
	b, err := json.Marshal(texts)
	if err != nil {
		panic(err) // texts are always JSON
	}
	return string(b)
}

// pairs returns the second column of a query by the first one.
func (s *Store) pairs(ctx context.Context, query string, args ...any) (map[string][]string, error) {
	var rows []struct{ A, B string }
	err := s.db.SelectContext(ctx, &rows, query, args...)
	out := map[string][]string{}
	for _, r := range rows {
		out[r.A] = append(out[r.A], r.B)
	}
	return out, err
}
