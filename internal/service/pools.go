package service

import (
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"time"

	"bagaglio/api"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/internal/points"
	"bagaglio/internal/store"
)

var poolName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

const localHost = "local"

// AddPool adds a folder of this computer as a pool.
func (s *Service) AddPool(ctx context.Context, p api.NewPool) (api.Pool, error) {
	if !poolName.MatchString(p.Name) {
		return api.Pool{}, fmt.Errorf("%w: the pool's name %q may have small letters, digits and hyphens only, at most 63, and begins with a letter or digit", ErrInvalid, p.Name)
	}
	if !filepath.IsAbs(p.Folder) {
		return api.Pool{}, fmt.Errorf("%w: the folder %q has to be an absolute path on the service's computer", ErrInvalid, p.Folder)
	}
	// The real place, so that one folder is not two pools under two names.
	folder, err := filepath.EvalSymlinks(p.Folder)
	if err != nil {
		return api.Pool{}, fmt.Errorf("%w: looking for the folder: %w; make it first", ErrInvalid, err)
	}
	opened, err := local.Open(folder)
	if err != nil {
		return api.Pool{}, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	record := store.Pool{Name: p.Name, Host: localHost, Folder: folder}
	if err := s.store.AddPool(ctx, record, time.Now()); err != nil {
		_ = opened.Close() // the first error says more
		return api.Pool{}, err
	}
	s.mu.Lock()
	s.folders[p.Name] = points.Folder(opened)
	s.mu.Unlock()
	return s.describe(record), nil
}

// Pools returns all pools with how full they are.
func (s *Service) Pools(ctx context.Context) ([]api.Pool, error) {
	records, err := s.store.Pools(ctx)
	if err != nil {
		return nil, err
	}
	pools := make([]api.Pool, len(records))
	for i, r := range records {
		pools[i] = s.describe(r)
	}
	return pools, nil
}

func (s *Service) describe(r store.Pool) api.Pool {
	p := api.Pool{Name: r.Name, Host: r.Host, Folder: r.Folder}
	space, err := s.space(r)
	if err != nil {
		problem := err.Error()
		p.Problem = &problem
		return p
	}
	p.Reachable, p.Total, p.Free, p.Filesystem, p.ReadOnly = true, space.Total, space.Free, space.Kind, space.ReadOnly
	if space.LargestFile > 0 {
		p.LargestFile = &space.LargestFile
	}
	return p
}

func (s *Service) space(r store.Pool) (storage.Space, error) {
	folder, err := s.open(r)
	if err != nil {
		return storage.Space{}, err
	}
	return folder.Space()
}

// RemovePool forgets a pool that no job uses. Its files stay.
func (s *Service) RemovePool(ctx context.Context, name string) error {
	for _, state := range []store.State{store.Waiting, store.Running, store.Paused} {
		jobs, err := s.store.JobsIn(ctx, state)
		if err != nil {
			return err
		}
		for _, j := range jobs {
			r := j.Plan.Request
			if r.Source.Pool == name || r.Destination != nil && r.Destination.Pool == name {
				return fmt.Errorf("%w: job %d uses the pool %s: wait for it or cancel it", ErrState, j.ID, name)
			}
		}
	}
	if err := s.store.RemovePool(ctx, name); err != nil {
		return fmt.Errorf("pool %q: %w", name, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.folders[name]; ok {
		delete(s.folders, name)
		return f.Close()
	}
	return nil
}

// folder returns the open folder of a pool.
func (s *Service) folder(ctx context.Context, pool string) (storage.Folder, error) {
	r, err := s.store.Pool(ctx, pool)
	if err != nil {
		return nil, fmt.Errorf("pool %q: %w", pool, err)
	}
	return s.open(r)
}

func (s *Service) open(r store.Pool) (storage.Folder, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.folders[r.Name]; ok {
		return f, nil
	}
	opened, err := local.Open(r.Folder)
	if err != nil {
		return nil, fmt.Errorf("pool %s is not reachable: %w", r.Name, err)
	}
	f := points.Folder(opened)
	s.folders[r.Name] = f
	return f, nil
}
