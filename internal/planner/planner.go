// Package planner makes plans of requests, with what the records and the places tell.
package planner

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	_ "bagaglio/core/step/machines"
	_ "bagaglio/core/step/packages"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// Planner makes plans.
type Planner struct {
	records *records.Records
	places  *places.Places
	guests  *machines.Machines
	log     *slog.Logger
	state   string // folder
	groups  groups
	porters Porters // nil where there are none
	// unpacked is what files of packages hold that are compressed there.
	unpacked *archive.Unpacked
	ctx      context.Context // of what is made in the background
	stop     context.CancelFunc
}

// New returns one, for a service with a state folder. The caller closes it.
func New(r *records.Records, p *places.Places, m *machines.Machines, state string, log *slog.Logger) *Planner {
	s := &Planner{records: r, places: p, guests: m, state: state, log: log, unpacked: archive.NewUnpacked(filepath.Join(state, "scratch"))}
	s.ctx, s.stop = context.WithCancel(context.Background())
	return s
}

// Kept is a plan that is kept, to be started.
type Kept struct {
	ID   string
	Plan plan.Plan // as it is shown
	Job  int64     // that was started with it, 0 for none
}

// Plan says what a request would do, and keeps that so that it can be started.
func (s *Planner) Plan(ctx context.Context, r plan.Request) (Kept, error) {
	p, err := s.Prepare(ctx, r, time.Now())
	if err != nil {
		return Kept{}, err
	}
	k := Kept{ID: uuid.NewString(), Plan: p.Shown()}
	return k, s.records.AddPlan(ctx, k.ID, k.Plan, time.Now())
}

// Kept returns a plan that was made.
func (s *Planner) Kept(ctx context.Context, id string) (Kept, error) {
	p, started, err := s.records.KeptPlan(ctx, id)
	if err != nil {
		return Kept{}, fmt.Errorf("plan %q: %w", id, err)
	}
	return Kept{ID: id, Plan: p, Job: started}, nil
}

// BlockedError is the error for a plan that checks stand in the way of, at least one.
type BlockedError struct{ Checks []plan.Check }

func (e *BlockedError) Error() string {
	return fmt.Sprintf("%v: %s", step.ErrBlocked, e.Checks[0].Message)
}

func (e *BlockedError) Unwrap() error { return step.ErrBlocked }

// Prepare plans a request, with what was known at a time or is known since.
func (s *Planner) Prepare(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	p, err := s.prepareOf(ctx, r, since, "")
	if err == nil {
		err = s.assign(ctx, &p)
	}
	return p, err
}

// but are the users of files without one of them, HOST:NAME.
func but(users func(context.Context, []string) ([]plan.User, error), owner string) func(context.Context, []string) ([]plan.User, error) {
	if users == nil || owner == "" {
		return users
	}
	return func(ctx context.Context, files []string) ([]plan.User, error) {
		all, err := users(ctx, files)
		return slices.DeleteFunc(all, func(u plan.User) bool { return u.Name == owner && u.Pool == "" }), err
	}
}

// prepareOf plans a request for a disk of a machine, HOST:NAME, which goes with it: that it uses the disk stands in nobody's way.
func (s *Planner) prepareOf(ctx context.Context, r plan.Request, since time.Time, owner string) (plan.Plan, error) {
	if err := r.Validate(); err != nil {
		return plan.Plan{}, err
	}
	switch r.Kind {
	case plan.Undo:
		return s.prepareUndo(ctx, r, since)
	case plan.MoveMachine, plan.CopyMachine:
		return s.prepareMachine(ctx, r, since)
	case plan.RemoveMachine:
		return s.prepareRemoveMachine(ctx, r, since)
	case plan.HandDisk:
		return s.prepareHandDisk(ctx, r, since)
	case plan.PackMachine:
		return s.preparePack(ctx, r)
	}
	if plan.IsStaying(r.Kind) {
		return s.prepareStaying(ctx, r)
	}
	ends, err := s.Ends(ctx, r)
	if err != nil {
		return plan.Plan{}, err
	}
	to := ""
	if r.Destination != nil {
		to = r.Destination.Pool
	}
	speeds, err := s.records.Speeds(ctx, r.Source.Pool, to)
	if err != nil {
		return plan.Plan{}, err
	}
	if format, err := s.places.FormatOf(ctx, ends.Source, r.Source); err == nil && format == "raw" {
		r.Source.Format = format
	} // any other problem of the source is for the plan to tell
	if d := r.AgainstDisk; d != nil {
		other := *d
		if format, err := s.places.FormatOf(ctx, ends.Against, other); err == nil && format == "raw" {
			other.Format = format
		}
		r.AgainstDisk = &other
	}
	known, err := s.Known(ctx, r, since)
	if err != nil {
		return plan.Plan{}, err
	}
	known.Speeds = speeds
	known.Users = but(known.Users, owner)
	p, err := disks.Prepare(ctx, ends, r, known)
	if err == nil {
		err = s.named(ctx, p)
	}
	if err != nil || !r.ByRules {
		return p, err
	}
	if next, more, err := p.ByRules(); err != nil {
		return p, err
	} else if more && !reflect.DeepEqual(next, r) {
		return s.Prepare(ctx, next, since)
	}
	return p, nil
}

// named adds what the disks of a plan are called by the records.
func (s *Planner) named(ctx context.Context, p plan.Plan) error {
	for i, d := range p.Bodies {
		if d.Request.Destination == nil || d.Request.Source.IsDevice() {
			continue
		}
		paths := []string{d.Request.Source.Path}
		for _, k := range d.Family {
			paths = append(paths, k.Path)
		}
		called, err := s.places.Named(ctx, d.Request.Source.Pool, paths)
		if err != nil {
			return err
		}
		p.Bodies[i].Called = called
	}
	return nil
}

// Known is what the records tell of the places of a request, as of a time where that matters.
func (s *Planner) Known(ctx context.Context, r plan.Request, since time.Time) (known step.Known, err error) {
	at := r.Destination
	switch {
	case r.Kind == plan.Remove:
		at = &r.Source
	case at == nil:
		return known, nil
	}
	pool, err := s.places.Record(ctx, at.Pool)
	if err != nil {
		return known, err
	}
	known.Rules, known.Facts = pool.Rules, pool.Facts
	from, err := s.places.Record(ctx, r.Source.Pool)
	if err != nil {
		return known, err
	}
	known.SourceRoot, known.SourceHost, known.Host = from.Ground(), from.Host, pool.Host
	if from.Host == pool.Host {
		known.Root = pool.Ground()
	}
	if known.Neighbours, err = s.records.MachinesIn(ctx, pool.Name, path.Dir(path.Clean(at.Path))); err != nil {
		return known, err
	}
	needs, err := s.needs(ctx, r, from, pool)
	if err != nil {
		return known, err
	}
	if known.Knowledge, err = s.places.Knowledge(ctx, needs, since, !r.WithoutKnowing); err != nil {
		return known, err
	}
	known.StandingThere = func(ctx context.Context, files []string) ([]string, error) {
		return s.records.Standing(ctx, pool.Name, files)
	}
	if r.Source.IsDevice() { // of which nothing is on record
		known.Standing = func(context.Context, []string) ([]string, error) { return nil, nil }
		return known, nil
	}
	known.Standing = func(ctx context.Context, files []string) ([]string, error) {
		return s.records.Standing(ctx, r.Source.Pool, files)
	}
	known.Users = func(ctx context.Context, files []string) ([]plan.User, error) {
		standing, err := s.records.Standing(ctx, r.Source.Pool, files)
		if err != nil {
			return nil, err
		}
		users, err := s.records.Users(ctx, r.Source.Pool, append(files, standing...))
		if err != nil || r.Kind != plan.Remove {
			return users, err
		}
		of, err := s.guests.Naming(ctx, r.Source.Pool, files)
		if r.WithoutKnowing { // what can be asked for is known all the same
			err = nil
		}
		return append(users, of...), err
	}
	return known, nil
}

// needs are the pools of which a request has to know what lies in them, so that it does no harm: where something of the source goes away,
// what may stand on it, and all definitions on its host; where something is replaced, what stands on that.
func (s *Planner) needs(ctx context.Context, r plan.Request, from, to store.Pool) (map[string]places.Need, error) {
	needs := map[string]places.Need{}
	goes := r.Goes() || r.Replace && from.Name == to.Name
	if goes {
		pools, err := s.records.Pools(ctx)
		if err != nil {
			return nil, err
		}
		for _, p := range pools {
			if p.Host == from.Host {
				needs[p.Name] = places.NeedDefinitions
			}
		}
	}
	if goes || r.Family {
		needs[from.Name] = places.NeedAll
	}
	if r.Replace {
		needs[to.Name] = places.NeedAll
	}
	return needs, nil
}

// Ends are the folders that the places of a request lie in. They know which files a machine of their host uses.
func (s *Planner) Ends(ctx context.Context, r plan.Request) (ends step.Ends, err error) {
	ends.Scratch, ends.Saved = filepath.Join(s.state, "scratch"), filepath.Join(s.state, "saved")
	if r.Destination != nil {
		if ends.Destination, err = s.folder(ctx, r.Destination.Pool); err != nil {
			return ends, err
		}
	}
	if r.AgainstDisk != nil {
		if ends.Against, err = s.inside(ctx, *r.AgainstDisk, false); err != nil {
			return ends, err
		}
	}
	ends.Source, err = s.inside(ctx, r.Source, r.Suspended)
	return ends, err
}

// orGone is a folder of the old host of a machine whose copy is kept up to date: where that is not to be reached, one in which nothing is.
func orGone(m *plan.Machine, folder storage.Folder, err error) (storage.Folder, error) {
	if m == nil || m.KeepEvery == 0 || !storage.Lost(err) {
		return folder, err
	}
	return storage.Gone{Err: err}, nil
}

func (s *Planner) folder(ctx context.Context, pool string) (storage.Folder, error) {
	return s.watched(ctx, pool, false)
}

// inside is the folder that a place lies in: that of its pool, or an archive there.
func (s *Planner) inside(ctx context.Context, at plan.Place, suspended bool) (storage.Folder, error) {
	folder, err := s.watched(ctx, at.Pool, suspended)
	if err != nil {
		return nil, err
	}
	in, err := archive.In(folder, at.Path)
	if err != nil || at.Unpacks == 0 {
		return in, err
	}
	return s.unpacked.In(at.Pool, in, at.Unpacks), nil
}

// watched is the folder of a pool, in which disks are in use also of machines that are suspended, unless that is fine.
func (s *Planner) watched(ctx context.Context, pool string, suspended bool) (storage.Folder, error) {
	r, err := s.places.Record(ctx, pool)
	if err != nil {
		return nil, err
	}
	folder, err := s.places.Open(ctx, r)
	if err != nil {
		return nil, err
	}
	return s.guests.Watched(ctx, r, folder, suspended)
}

// EndsOf are those of the disks of a plan.
func (s *Planner) EndsOf(ctx context.Context, p plan.Plan) (map[string]step.Ends, error) {
	all := map[string]step.Ends{}
	for _, d := range p.Bodies {
		ends, err := s.endsOfDisk(ctx, d)
		if ends.Source, err = orGone(p.Machine, ends.Source, err); err != nil {
			return nil, err
		}
		all[d.ID] = ends
	}
	if p.Machine != nil {
		ends, err := s.endsOfMachine(ctx, *p.Machine)
		if err != nil {
			return nil, err
		}
		all[plan.MachineSubject] = ends
	}
	if p.Packed != nil {
		ends, err := s.endsOfPackage(ctx, p)
		if err != nil {
			return nil, err
		}
		all[plan.PackageSubject] = ends
	}
	return all, nil
}

// endsOfDisk are those of a disk, with the folders of the definitions that are changed. One whose pool is gone is for the job to tell.
func (s *Planner) endsOfDisk(ctx context.Context, d plan.Disk) (step.Ends, error) {
	ends, err := s.Ends(ctx, d.Request)
	ends.Definitions = map[string]storage.Folder{}
	for _, pool := range DefinitionPools(d) {
		folder, folderErr := s.places.Folder(ctx, pool)
		if folderErr == nil {
			ends.Definitions[pool] = folder
		} else if !errors.Is(folderErr, store.ErrNotFound) {
			err = errors.Join(err, folderErr)
		}
	}
	return ends, err
}

// DefinitionPools are those in which definitions of machines are changed for a disk.
func DefinitionPools(d plan.Disk) (pools []string) {
	for _, h := range d.Handovers {
		if pools = append(pools, h.Pool); h.To != nil {
			pools = append(pools, h.To.Pool)
		}
	}
	slices.Sort(pools)
	return slices.Compact(pools)
}
