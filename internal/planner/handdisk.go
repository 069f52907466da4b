package planner

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"
)

// prepareHandDisk plans to hand a disk over from one machine to another.
func (s *Planner) prepareHandDisk(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	from, has, err := s.stayingOf(ctx, r.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	to, gets, err := s.stayingOf(ctx, r.To)
	if err != nil {
		return plan.Plan{}, err
	}
	f := plan.HandFacts{StayingFacts: has, To: gets}
	f.Lies = liesAt(from, r.Slot)
	if f.Lies.Path == "" || has.Problem != nil || gets.Problem != nil {
		return plan.ForHandDisk(r, f, plan.Plan{}), nil
	}
	if err := s.limitsOf(ctx, to.Host, &f.To); err != nil {
		return plan.Plan{}, err
	}
	if f.Goes, f.Nowhere = s.handedTo(ctx, r, to, f.Lies); f.Nowhere != nil {
		return plan.ForHandDisk(r, f, plan.Plan{}), ctx.Err()
	}
	pool, err := s.places.Record(ctx, f.Goes.Pool)
	if err != nil {
		return plan.Plan{}, err
	}
	f.Ground, f.PoolHost = pool.Ground(), pool.Host
	if f.Goes.Pool == f.Lies.Pool && f.Goes.Path == f.Lies.Path {
		return plan.ForHandDisk(r, f, plan.Plan{}), nil
	}
	part, err := s.Prepare(ctx, r.OfHanded(f.Lies, f.Goes), since)
	if err != nil {
		return plan.Plan{}, err
	}
	return plan.ForHandDisk(r, f, part), nil
}

// stayingOf is a machine, HOST:NAME, with the states that its host keeps of it.
func (s *Planner) stayingOf(ctx context.Context, text string) (m machines.Machine, f plan.StayingFacts, err error) {
	on, name, err := plan.HostAndName(text)
	if err != nil {
		return m, f, err
	}
	if m, err = s.show(ctx, on, name); err != nil {
		return m, f, err
	}
	f = plan.StayingFacts{Name: m.Name, State: m.State, Format: m.Format, Text: m.Definition, Is: m.Is, Problem: m.Problem}
	f.Kept, err = s.guests.Guests(on).Snapshots(ctx, m.Machine)
	if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, host.ErrRefused) {
		f.KeepsNone, err = err, nil
	}
	if err != nil {
		return m, f, err
	}
	if f.Layers, err = s.guests.LayersOn(ctx, on); err != nil {
		return m, f, err
	}
	if m.State == host.Running {
		signs, err := s.guests.Guests(on).Signs(ctx, m.Machine)
		f.Agent = err == nil && signs.Agent // otherwise the job would be told
	}
	return m, f, nil
}

// limitsOf finds out which disks a host takes.
func (s *Planner) limitsOf(ctx context.Context, on string, f *plan.StayingFacts) (err error) {
	if f.Limits, err = s.guests.Limits(ctx, on); err != nil {
		return err
	}
	own, err := s.guests.Format(ctx, on)
	if err != nil {
		return err
	}
	if format, err := machine.Lookup(own); err == nil && len(f.Limits.Formats) == 0 && !format.AnyImage {
		f.Limits.Formats = format.Images
	}
	return nil
}

// handedTo is where the image will lie: where the request says, or in the folder of the first disk in a pool of the machine that gets it.
func (s *Planner) handedTo(ctx context.Context, r plan.Request, to machines.Machine, lies plan.Place) (plan.Place, error) {
	if r.Destination != nil {
		return *r.Destination, nil
	}
	i := slices.IndexFunc(to.Disks, func(d machines.Disk) bool { return d.InPool != "" })
	if i < 0 {
		return plan.Place{}, fmt.Errorf("%s has no disk in a pool", r.To)
	}
	pool := to.Disks[i].InPool
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return plan.Place{}, err
	}
	from := lies.Path
	if pool != lies.Pool {
		from = ""
	}
	at := plan.HandedPath(path.Dir(to.Disks[i].Path), lies.Path, from, func(name string) bool {
		_, err := folder.Stat(name)
		return err == nil
	})
	return plan.Place{Pool: pool, Path: at}, nil
}

// handBack plans to hand a disk back that a job handed over, to where it was.
func (s *Planner) handBack(ctx context.Context, job string, p plan.Plan, since time.Time) (plan.Plan, error) {
	m, _, err := s.stayingOf(ctx, p.Request.To)
	if err != nil {
		return plan.Plan{}, err
	}
	i := slices.IndexFunc(m.Disks, func(d machines.Disk) bool { return d.Lies() == p.Machine.Given.Lies() })
	if i < 0 {
		return plan.Plan{}, fmt.Errorf("%w: %s does not have the disk any more that job %s gave it", records.ErrState, p.Request.To, job)
	}
	was, err := s.guests.Lying(ctx, p.Machine.Host, *p.Machine.Disk)
	if err != nil {
		return plan.Plan{}, err
	}
	return s.prepareHandDisk(ctx, plan.Request{
		Kind: plan.HandDisk, Machine: p.Request.To, Slot: m.Disks[i].Slot, To: p.Request.Machine, Destination: &was,
		Bus: p.Machine.Disk.Bus, Serial: p.Machine.Disk.Serial,
	}, since)
}
