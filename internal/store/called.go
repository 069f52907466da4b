package store

import (
	"context"

	"bagaglio/core/plan"
)

// Called is what people call a disk that has no tag which could say so. File is its identity: another one under the same name is not called so.
type Called struct {
	Path, File string
	plan.Called
}

// SetCalled keeps what a disk is called, or forgets it where that is nothing.
func (s *Store) SetCalled(ctx context.Context, pool string, c Called) error {
	if c.Called == (plan.Called{}) {
		_, err := s.writer.ExecContext(ctx, `DELETE FROM called WHERE pool = ? AND path = ?`, pool, c.Path)
		return err
	}
	_, err := s.writer.ExecContext(
		ctx,
		`INSERT OR REPLACE INTO called (pool, path, file, called, note) VALUES (?, ?, ?, ?, ?)`,
		pool, c.Path, c.File, c.Name, c.Note,
	)
	return err
}

// CalledAt returns what disks are called, by their paths.
func (s *Store) CalledAt(ctx context.Context, pool string, paths []string) (map[string]Called, error) {
	var rows []struct{ Path, File, Called, Note string }
	err := s.db.SelectContext(ctx, &rows, `SELECT path, file, called, note FROM called WHERE pool = ? AND path IN `+listed, pool, list(paths))
	out := map[string]Called{}
	for _, r := range rows {
		out[r.Path] = Called{r.Path, r.File, plan.Called{Name: r.Called, Note: r.Note}}
	}
	return out, err
}
