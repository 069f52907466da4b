package planner

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"
)

// prepareStaying plans what is done with a machine that stays on its host.
func (s *Planner) prepareStaying(ctx context.Context, r plan.Request) (plan.Plan, error) {
	m, f, err := s.stayingOf(ctx, r.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	switch r.Kind {
	case plan.AttachDisk:
		if err := s.factsOfImage(ctx, r.Source, m.Host, &f); err != nil {
			return plan.Plan{}, err
		}
	case plan.DropSnapshot:
		if f.Below, err = s.standingOn(ctx, m.Host, r.Snapshot, f.Kept); err != nil {
			return plan.Plan{}, err
		}
	case plan.DetachDisk:
		f.Lies = liesAt(m, r.Slot)
	}
	return plan.ForStaying(r, f), nil
}

// standingOn are disks that stand on files which a host keeps apart for a snapshot.
func (s *Planner) standingOn(ctx context.Context, on, name string, kept []host.Snapshot) (all []string, err error) {
	for _, k := range kept {
		if k.Name != name {
			continue
		}
		layers := []string{} // which are written down into what they stand on
		for _, file := range k.Layers {
			at, err := s.guests.Lying(ctx, on, machine.Disk{File: file})
			if err != nil {
				return nil, err
			}
			layers = append(layers, at.Path, at.Pool+":"+at.Path)
		}
		for _, file := range k.Files {
			at, err := s.guests.Lying(ctx, on, machine.Disk{File: file})
			if err != nil {
				return nil, err
			}
			if at.Path == "" {
				continue
			}
			standing, err := s.records.Standing(ctx, at.Pool, []string{at.Path})
			if err != nil {
				return nil, err
			}
			for _, other := range standing {
				if other == at.Path || slices.Contains(layers, other) {
					continue
				}
				if !strings.Contains(other, ":") {
					other = at.Pool + ":" + other
				}
				all = append(all, other)
			}
		}
	}
	return all, nil
}

// liesAt is where the disk of a slot lies; a place without a path is outside of all pools.
func liesAt(m machines.Machine, slot string) plan.Place {
	i := slices.IndexFunc(m.Disks, func(d machines.Disk) bool { return d.Slot == slot })
	if i < 0 {
		return plan.Place{}
	}
	return plan.Place{Pool: m.Disks[i].InPool, Path: m.Disks[i].Path}
}

// factsOfImage looks at a disk that a machine of a host is to get.
func (s *Planner) factsOfImage(ctx context.Context, at plan.Place, on string, f *plan.StayingFacts) error {
	pool, err := s.places.Record(ctx, at.Pool)
	if err != nil {
		return err
	}
	f.Host, f.File = pool.Host, pool.Ground().Path(at.Path)
	folder, err := s.folder(ctx, at.Pool)
	if err != nil {
		return err
	}
	if at.Format == "" {
		if at.Format, err = s.places.FormatOf(ctx, folder, at); err != nil {
			f.Shut = err
			return ctx.Err()
		}
	}
	r, err := disk.Open(ctx, folder, at.Path, at.Format)
	if err != nil {
		f.Shut = err
		return ctx.Err()
	}
	f.Image = r.Describe()
	if err := r.Close(); err != nil {
		return err
	}
	if err := s.limitsOf(ctx, on, f); err != nil {
		return err
	}
	users, err := s.guests.Naming(ctx, at.Pool, f.Image.Files)
	if err != nil {
		return err
	}
	for _, u := range users {
		f.Users = append(f.Users, u.Name)
	}
	standing, err := s.records.Standing(ctx, at.Pool, f.Image.Files)
	f.Standing = slices.DeleteFunc(standing, func(file string) bool { return slices.Contains(f.Image.Files, file) })
	return err
}

// stayingBack plans to take back what a job did with a machine that stayed.
func (s *Planner) stayingBack(ctx context.Context, job string, p plan.Plan) (plan.Plan, error) {
	on, name, err := plan.HostAndName(p.Request.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	m, err := s.show(ctx, on, name)
	if err != nil {
		return plan.Plan{}, err
	}
	slot, lies := "", plan.Place{}
	if d := p.Machine.Disk; d != nil {
		has := *d
		if p.Machine.Given != nil {
			has = *p.Machine.Given
		}
		i := slices.IndexFunc(m.Disks, func(o machines.Disk) bool { return o.Lies() == has.Lies() })
		if i >= 0 {
			slot = m.Disks[i].Slot
		}
		if lies, err = s.guests.Lying(ctx, on, *d); err != nil {
			return plan.Plan{}, err
		}
	}
	back, more := p.Machine.Reverse(p.Request, slot, lies)
	if !more {
		return plan.Plan{}, fmt.Errorf("%w: what job %s did to %s cannot be taken back", records.ErrState, job, p.Request.Machine)
	}
	return s.prepareStaying(ctx, back)
}
