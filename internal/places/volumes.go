package places

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// computerOf is the computer that a folder of a host lies on. Where that is not to be had, the folder is closed.
func computerOf(folder storage.Folder, on string) (blocks.Computer, error) {
	c, ok := storage.As[interface{ Computer() blocks.Computer }](folder)
	if !ok {
		return nil, errors.Join(
			fmt.Errorf("%w: the disks of %s are not to be seen: it has to be a host with SSH", records.ErrInvalid, on),
			folder.Close(),
		)
	}
	return c.Computer(), nil
}

// connectVolumes reaches a pool whose disks are volumes.
func (s *Places) connectVolumes(ctx context.Context, r store.Pool) (storage.Folder, error) {
	folder, err := s.reach(ctx, r.Host, r.Folder)
	if err != nil {
		return nil, err
	}
	var on volumes.Computer = blocks.Here{}
	if r.Host != LocalHost {
		there, err := computerOf(folder, r.Host)
		if err != nil {
			return nil, err
		}
		can, ok := there.(volumes.Computer)
		if !ok {
			return nil, errors.Join(fmt.Errorf("%w: nothing can be run on %s", records.ErrInvalid, r.Host), folder.Close())
		}
		on = can
	}
	f, err := volumes.Open(r.Volumes, folder, on)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the volumes %s: %w", r.Volumes, err), folder.Close())
	}
	return f, nil
}

// ownsVolumes fails for volumes that are those of another pool.
func (s *Places) ownsVolumes(ctx context.Context, r store.Pool) error {
	if r.Volumes == "" {
		return nil
	}
	if err := volumes.Check(r.Volumes); err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return err
	}
	for _, p := range pools {
		if p.Host == r.Host && volumes.Same(p.Volumes, r.Volumes) {
			return fmt.Errorf("the volumes %s are %w, by the pool %s (%s)", r.Volumes, store.ErrTaken, p.Name, p.Volumes)
		}
	}
	return nil
}

// ruled are the rules of a pool: where its disks are volumes, each is a raw one, of a size that they are counted in.
func ruled(r plan.Rules, f storage.Folder) (plan.Rules, error) {
	v, ok := storage.As[*volumes.Folder](f)
	if !ok {
		return r, nil
	}
	unit, err := v.Unit()
	if err != nil {
		return r, err
	}
	r.Accepts = []plan.Accepted{{Format: "raw", Layouts: []string{plan.Thin, plan.Thick}}}
	if r.Granularity%unit != 0 || r.Granularity == 0 {
		r.Granularity = unit
	}
	if err := r.Validate(); err != nil {
		return r, fmt.Errorf("%w: the rules: %w", records.ErrInvalid, err)
	}
	return r, nil
}
