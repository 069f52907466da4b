package places

import (
	"context"
	"fmt"
	"path"
	"path/filepath"

	"bagaglio/core/remains"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/go-jose/go-jose/v4"
)

// Remains finds what a service whose records are lost left in a folder of a host. It changes nothing.
func (s *Places) Remains(ctx context.Context, host, folder string) (found remains.Found, err error) {
	if !filepath.IsAbs(folder) {
		return found, fmt.Errorf("%w: the folder %q has to be an absolute path on the host", records.ErrInvalid, folder)
	}
	at := store.Pool{Host: host, Folder: path.Clean(folder)}
	if host != LocalHost {
		err = s.noState(ctx, at)
	} else if at.Folder, err = filepath.EvalSymlinks(at.Folder); err != nil {
		err = fmt.Errorf("%w: looking for the folder: %w", records.ErrInvalid, err)
	} else if err = s.kept.Apart(at.Folder); err != nil {
		err = fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	if err != nil {
		return found, err
	}
	opened, err := s.reach(ctx, host, at.Folder)
	if err != nil {
		return found, err
	}
	defer opened.Close()
	return remains.Find(opened)
}

// Leave leaves the receipt of a job in a pool that it put something into, for the day on which the records are lost. Where that cannot be, it is
// logged.
func (s *Places) Leave(ctx context.Context, pool string, public jose.JSONWebKey, number int64, sealed string) {
	leave := func() error {
		record, err := s.Record(ctx, pool)
		if err != nil {
			return err
		}
		folder, err := s.Open(ctx, record)
		if err != nil {
			return err
		}
		about := remains.About{Pool: record.Name, Host: record.Host, Folder: record.Folder, Rules: record.Rules}
		return remains.Leave(folder, about, public, number, sealed)
	}
	if err := leave(); err != nil {
		s.log.Warn("leaving a receipt in a pool", "pool", pool, "error", err)
	}
}
