package service

import (
	"context"

	"bagaglio/api"
	"bagaglio/core/job"
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
		held, err := job.ListHeld(folder)
		if err != nil {
			continue
		}
		for _, h := range held {
			out = append(out, view(p.Name, h))
		}
	}
	return out, nil
}

func view(pool string, h job.Held) api.Held {
	v := api.Held{Id: h.ID, Pool: pool, Path: h.Path, Files: h.Files, Size: h.Size, Room: h.Room, Why: h.Why, Since: h.Since, Until: h.Until}
	if h.Moved != "" {
		v.Moved, v.Definitions = &h.Moved, &h.Definitions
	}
	return v
}

// Restore gives what is held its names back.
func (s *Service) Restore(ctx context.Context, pool, id string, swap bool) (api.Held, error) {
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return api.Held{}, err
	}
	h, err := job.Restore(folder, id, swap, s.options.Hold)
	s.touch(pool)
	return view(pool, h), err
}

// DropHeld removes what is held for good.
func (s *Service) DropHeld(ctx context.Context, pool, id string) error {
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return err
	}
	return job.DropHeld(folder, id)
}
