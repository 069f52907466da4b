package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/store"
)

// Held returns what all pools hold. A pool that is not reachable is left out.
func (s *Service) Held(ctx context.Context) ([]api.Held, error) {
	pools, err := s.store.Pools(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Held{}
	for _, p := range pools {
		if _, err := s.space(p); err != nil {
			continue
		}
		folder, err := s.open(ctx, p)
		if err != nil {
			continue
		}
		held, err := disks.ListHeld(folder)
		if err != nil {
			continue
		}
		for _, h := range held {
			out = append(out, view(p.Name, h))
		}
	}
	return out, nil
}

func view(pool string, h disks.Held) api.Held {
	v := api.Held{Id: h.ID, Pool: pool, Path: h.Path, Files: h.Files, Size: h.Size, Room: h.Room, Why: h.Why, Since: h.Since, Until: h.Until}
	if h.Moved != "" {
		v.Moved, v.Definitions = &h.Moved, &h.Definitions
	}
	return v
}

// Restore gives what is held its names back. What has them now is held in its place when swap is set, unless a job uses it, or something
// stands on it.
func (s *Service) Restore(ctx context.Context, pool, id string, swap bool) (api.Held, error) {
	record, err := s.pool(ctx, pool)
	if err != nil {
		return api.Held{}, err
	}
	folder, err := s.open(ctx, record)
	if err != nil {
		return api.Held{}, err
	}
	h, err := disks.HeldAs(folder, id)
	if err != nil {
		return api.Held{}, err
	}
	if swap {
		if err := s.freeToSwap(ctx, record, folder, h); err != nil {
			return api.Held{}, err
		}
	}
	s.dispatching.Lock() // no job begins to use its files now
	defer s.dispatching.Unlock()
	if err := s.notLeased(ctx, record, h.Files); err != nil {
		return api.Held{}, err
	}
	h, err = disks.Restore(folder, id, swap, s.options.Hold)
	s.touch(pool)
	return view(pool, h), err
}

// freeToSwap fails when something stands on what lies where held files were: it would not be what it was any more.
func (s *Service) freeToSwap(ctx context.Context, pool store.Pool, folder storage.Folder, h disks.Held) error {
	k, err := s.knowledge(ctx, map[string]need{pool.Name: needAll}, time.Now(), true)
	if err != nil {
		return err
	}
	if len(k.Awaited) > 0 {
		return fmt.Errorf(
			"%w: %s: what stands on what is there has to be known first: try again when it is",
			ErrState,
			strings.Join(k.Awaited, "; "),
		)
	}
	there := slices.DeleteFunc(slices.Clone(h.Files), func(f string) bool { _, err := folder.Stat(f); return err != nil })
	standing, err := s.store.Standing(ctx, pool.Name, there)
	standing = slices.DeleteFunc(standing, func(f string) bool { return slices.Contains(there, f) })
	if err == nil && len(standing) > 0 {
		err = fmt.Errorf("%w: %s", step.ErrBlocked, plan.StandsOnReplaced(standing).Message)
	}
	return err
}

// notLeased fails for files that a job uses.
func (s *Service) notLeased(ctx context.Context, pool store.Pool, files []string) error {
	leases, err := s.store.Leases(ctx)
	if err != nil {
		return err
	}
	for _, l := range leases {
		if slices.ContainsFunc(files, func(f string) bool { return leaseOf(pool, f) == l.File }) {
			return fmt.Errorf("%w: %w: wait for it, or cancel it", ErrState, &store.LeasedError{Lease: l})
		}
	}
	return nil
}

// DropHeld removes what is held for good.
func (s *Service) DropHeld(ctx context.Context, pool, id string) error {
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return err
	}
	return disks.DropHeld(folder, id)
}
