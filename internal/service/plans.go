package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strconv"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// Plan says what a request would do, and keeps the request so that it can be started.
func (s *Service) Plan(ctx context.Context, r plan.Request) (api.KeptPlan, error) {
	p, err := s.prepare(ctx, r, time.Now())
	if err != nil {
		return api.KeptPlan{}, err
	}
	id := uuid.NewString()
	return api.KeptPlan{Id: id, Blocked: p.Blocked(), Plan: p.Shown()}, s.store.AddPlan(ctx, id, p.Shown(), time.Now())
}

// KeptPlan returns a plan that was made.
func (s *Service) KeptPlan(ctx context.Context, id string) (api.KeptPlan, error) {
	p, started, err := s.store.KeptPlan(ctx, id)
	if err != nil {
		return api.KeptPlan{}, fmt.Errorf("plan %q: %w", id, err)
	}
	kept := api.KeptPlan{Id: id, Blocked: p.Blocked(), Plan: p}
	if started > 0 {
		kept.Job = ptr(strconv.FormatInt(started, 10))
	}
	return kept, nil
}

// BlockedError is the error for a plan that checks stand in the way of, at least one.
type BlockedError struct{ Checks []plan.Check }

func (e *BlockedError) Error() string {
	return fmt.Sprintf("%v: %s", step.ErrBlocked, e.Checks[0].Message)
}

func (e *BlockedError) Unwrap() error { return step.ErrBlocked }

// prepare plans a request, with what was known at a time or is known since.
func (s *Service) prepare(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	if err := r.Validate(); err != nil {
		return plan.Plan{}, err
	}
	if r.Kind == plan.Undo {
		return s.prepareUndo(ctx, r, since)
	}
	ends, err := s.ends(ctx, r)
	if err != nil {
		return plan.Plan{}, err
	}
	to := ""
	if r.Destination != nil {
		to = r.Destination.Pool
	}
	speeds, err := s.store.Speeds(ctx, r.Source.Pool, to)
	if err != nil {
		return plan.Plan{}, err
	}
	if format, err := s.formatOf(ctx, ends.Source, r.Source); err == nil && format == "raw" {
		r.Source.Format = format
	} // any other problem of the source is for the plan to tell
	known, err := s.known(ctx, r, since)
	if err != nil {
		return plan.Plan{}, err
	}
	known.Speeds = speeds
	p, err := disks.Prepare(ctx, ends, r, known)
	if err != nil || !r.ByRules {
		return p, err
	}
	if next, more, err := p.ByRules(); err != nil {
		return p, err
	} else if more && !reflect.DeepEqual(next, r) {
		return s.prepare(ctx, next, since)
	}
	return p, nil
}

// known is what the records tell of the places of a request, as of a time where that matters.
func (s *Service) known(ctx context.Context, r plan.Request, since time.Time) (known step.Known, err error) {
	if r.Destination == nil {
		return known, nil
	}
	pool, err := s.pool(ctx, r.Destination.Pool)
	if err != nil {
		return known, err
	}
	known.Rules, known.Facts = pool.Rules, pool.Facts
	from, err := s.pool(ctx, r.Source.Pool)
	if err != nil {
		return known, err
	}
	known.SourceRoot, known.SourceHost, known.Host = from.Folder, from.Host, pool.Host
	if from.Host == pool.Host {
		known.Root = pool.Folder
	}
	if known.Neighbours, err = s.store.MachinesIn(ctx, pool.Name, path.Dir(path.Clean(r.Destination.Path))); err != nil {
		return known, err
	}
	needs, err := s.needs(ctx, r, from, pool)
	if err != nil {
		return known, err
	}
	if known.Knowledge, err = s.knowledge(ctx, needs, since, !r.WithoutKnowing); err != nil {
		return known, err
	}
	known.Standing = func(ctx context.Context, files []string) ([]string, error) {
		return s.store.Standing(ctx, r.Source.Pool, files)
	}
	known.StandingThere = func(ctx context.Context, files []string) ([]string, error) {
		return s.store.Standing(ctx, pool.Name, files)
	}
	known.Users = func(ctx context.Context, files []string) ([]plan.User, error) {
		standing, err := s.store.Standing(ctx, r.Source.Pool, files)
		if err != nil {
			return nil, err
		}
		return s.store.Users(ctx, r.Source.Pool, append(files, standing...))
	}
	return known, nil
}

// needs are the pools of which a request has to know what lies in them, so that it does no harm: where something of the source goes away,
// what may stand on it, and all definitions on its host; where something is replaced, what stands on that.
func (s *Service) needs(ctx context.Context, r plan.Request, from, to store.Pool) (map[string]need, error) {
	needs := map[string]need{}
	goes := r.Release || r.Replace && from.Name == to.Name
	if goes {
		pools, err := s.store.Pools(ctx)
		if err != nil {
			return nil, err
		}
		for _, p := range pools {
			if p.Host == from.Host {
				needs[p.Name] = needDefinitions
			}
		}
	}
	if goes || r.Family {
		needs[from.Name] = needAll
	}
	if r.Replace {
		needs[to.Name] = needAll
	}
	return needs, nil
}

func (s *Service) ends(ctx context.Context, r plan.Request) (ends step.Ends, err error) {
	if ends.Source, err = s.folder(ctx, r.Source.Pool); err != nil {
		return ends, err
	}
	if r.Destination != nil {
		ends.Destination, err = s.folder(ctx, r.Destination.Pool)
	}
	return ends, err
}

// endsOf are those of the disks of a plan.
func (s *Service) endsOf(ctx context.Context, p plan.Plan) (map[string]step.Ends, error) {
	all := map[string]step.Ends{}
	for _, d := range p.Bodies {
		ends, err := s.endsOfDisk(ctx, d)
		if err != nil {
			return nil, err
		}
		all[d.ID] = ends
	}
	return all, nil
}

// endsOfDisk are those of a disk, with the folders of the definitions that are changed. One whose pool is gone is for the job to tell.
func (s *Service) endsOfDisk(ctx context.Context, d plan.Disk) (step.Ends, error) {
	ends, err := s.ends(ctx, d.Request)
	ends.Definitions = map[string]storage.Folder{}
	for _, pool := range definitionPools(d) {
		folder, folderErr := s.folder(ctx, pool)
		if folderErr == nil {
			ends.Definitions[pool] = folder
		} else if !errors.Is(folderErr, store.ErrNotFound) {
			err = errors.Join(err, folderErr)
		}
	}
	return ends, err
}

// definitionPools are those in which definitions of machines are changed for a disk.
func definitionPools(d plan.Disk) (pools []string) {
	for _, h := range d.Handovers {
		if pools = append(pools, h.Pool); h.To != nil {
			pools = append(pools, h.To.Pool)
		}
	}
	slices.Sort(pools)
	return slices.Compact(pools)
}
