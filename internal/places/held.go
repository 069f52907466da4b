package places

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/upload"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Held is what a pool holds.
type Held struct {
	Pool string
	disks.Held
}

// Held returns what all pools hold. A pool that is not reachable is left out.
func (s *Places) Held(ctx context.Context) ([]Held, error) {
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	out := []Held{}
	for _, p := range pools {
		if _, err := s.Space(p); err != nil {
			continue
		}
		folder, err := s.Open(ctx, p)
		if err != nil {
			continue
		}
		held, err := disks.ListHeld(folder)
		if err != nil {
			continue
		}
		for _, h := range held {
			out = append(out, Held{p.Name, h})
		}
	}
	return out, nil
}

// Restore gives what is held its names back. What has them now is held in its place when swap is set, unless a job uses it, or something
// stands on it. quiet keeps jobs from beginning to use its files.
func (s *Places) Restore(ctx context.Context, pool, id string, swap bool, quiet sync.Locker) (Held, error) {
	record, err := s.Record(ctx, pool)
	if err != nil {
		return Held{}, err
	}
	folder, err := s.Open(ctx, record)
	if err != nil {
		return Held{}, err
	}
	h, err := disks.HeldAs(folder, id)
	if err != nil {
		return Held{}, err
	}
	if swap {
		if err := s.freeToSwap(ctx, record, folder, h); err != nil {
			return Held{}, err
		}
	}
	quiet.Lock()
	defer quiet.Unlock()
	if err := s.NotLeased(ctx, record, h.Files); err != nil {
		return Held{}, err
	}
	h, err = disks.Restore(folder, id, swap, s.hold)
	s.Touch(pool)
	return Held{pool, h}, err
}

// freeToSwap fails when something stands on what lies where held files were: it would not be what it was any more.
func (s *Places) freeToSwap(ctx context.Context, pool store.Pool, folder storage.Folder, h disks.Held) error {
	k, err := s.Knowledge(ctx, map[string]Need{pool.Name: NeedAll}, time.Now(), true)
	if err != nil {
		return err
	}
	if len(k.Awaited) > 0 {
		return fmt.Errorf(
			"%w: %s: what stands on what is there has to be known first: try again when it is",
			records.ErrState,
			strings.Join(k.Awaited, "; "),
		)
	}
	there := slices.DeleteFunc(slices.Clone(h.Files), func(f string) bool { _, err := folder.Stat(f); return err != nil })
	standing, err := s.records.Standing(ctx, pool.Name, there)
	standing = slices.DeleteFunc(standing, func(f string) bool { return slices.Contains(there, f) })
	if err == nil && len(standing) > 0 {
		err = fmt.Errorf("%w: %s", step.ErrBlocked, plan.StandsOnReplaced(standing).Message)
	}
	return err
}

// NotLeased fails for files that a job uses.
func (s *Places) NotLeased(ctx context.Context, pool store.Pool, files []string) error {
	leases, err := s.records.Leases(ctx)
	if err != nil {
		return err
	}
	for _, l := range leases {
		if slices.ContainsFunc(files, func(f string) bool { return LeaseOf(pool, f) == l.File }) {
			return fmt.Errorf("%w: %w: wait for it, or cancel it", records.ErrState, &store.LeasedError{Lease: l})
		}
	}
	return nil
}

// DropHeld removes what is held for good.
func (s *Places) DropHeld(ctx context.Context, pool, id string) error {
	folder, err := s.Folder(ctx, pool)
	if err != nil {
		return err
	}
	return disks.DropHeld(folder, id)
}

// LeaseOf is what a file of a pool is called in leases.
func LeaseOf(pool store.Pool, file string) string {
	whole := path.Join(pool.Folder, file)
	if pool.Host == LocalHost { // a pool may be mounted at two places
		whole = local.Canonical(whole)
	}
	return pool.Host + ":" + whole
}

// DropExpired removes what was held for long enough, and uploads that nobody went on with.
func (s *Places) DropExpired(now time.Time) {
	ctx := context.Background()
	pools, err := s.records.Pools(ctx)
	if err != nil {
		s.log.Error("looking for what is held", "error", err)
		return
	}
	for _, p := range pools {
		if _, err := s.Space(p); err != nil {
			continue // not connected
		}
		folder, err := s.Open(ctx, p)
		if err != nil {
			continue // not connected
		}
		dropped, err := disks.DropExpired(folder, now)
		for _, h := range dropped {
			s.records.Add(ctx, store.Event{Who: records.ByService, What: "removed what was held for long enough", Subject: p.Name + ":" + h.Path})
		}
		if err = errors.Join(err, upload.DropExpired(folder, now)); err != nil {
			s.log.Warn("removing what was held for long enough", "pool", p.Name, "error", err)
		}
	}
}
