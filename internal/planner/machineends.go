package planner

import (
	"context"
	"errors"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	steps "bagaglio/core/step/machines"
	"bagaglio/core/storage"
	"bagaglio/internal/machines"
)

// endsOfMachine are the hosts of a machine.
func (s *Planner) endsOfMachine(ctx context.Context, m plan.Machine) (step.Ends, error) {
	ends := step.Ends{From: s.guests.Guests(m.Host), To: s.guests.Guests(m.To)}
	switch {
	case m.From == nil:
	case m.From.IsDevice():
		ends.From = machines.Proposed([]byte(m.Stored))
	default:
		folder, err := s.inside(ctx, *m.From, false)
		if err != nil {
			return ends, err
		}
		ends.From = machines.Shelf(folder, m.From.Path)
	}
	if m.Into != nil {
		folder, err := s.folder(ctx, m.Into.Pool)
		if err != nil {
			return ends, err
		}
		ends.To = machines.Shelf(folder, m.Into.Path)
	}
	if m.First {
		ends.Lender = s.guests.Lender(m.To)
	}
	ends.Pools = map[string]storage.Folder{}
	if m.Tell != "" {
		folder, err := s.folder(ctx, m.From.Pool)
		if err != nil {
			return ends, err
		}
		ends.Pools[m.From.Pool] = folder
	}
	for _, d := range m.Live {
		for _, at := range []plan.Place{d.Was, d.Now} {
			folder, err := s.places.Folder(ctx, at.Pool)
			if at == d.Was {
				folder, err = orGone(&m, folder, err)
			}
			if err != nil {
				return ends, err
			}
			ends.Pools[at.Pool] = folder
		}
	}
	return ends, nil
}

// BehindOf tells how far the copy of a machine is behind that a job keeps up to date.
func (s *Planner) BehindOf(ctx context.Context, m plan.Machine, journal step.Journal) (steps.Behind, error) {
	ends, err := s.endsOfMachine(ctx, m)
	if err != nil {
		return steps.Behind{}, err
	}
	return steps.BehindOf(journal, m, ends.Pools)
}

// machineBack plans to take back what a job did with a machine, around the plan for its disks.
func (s *Planner) machineBack(ctx context.Context, p plan.Plan, ended disks.Ended) (plan.Plan, error) {
	m := *ended.Plan.Machine
	u := plan.MachineUndo{Undone: plan.Undone{Job: ended.Job, Task: ended.Task, Journal: ended.Journal}, Machine: m}
	ends, err := s.endsOfMachine(ctx, m)
	if err != nil {
		return p, err
	}
	there, err := ends.To.Machine(ctx, m.After.Name)
	if err == nil {
		u.State, u.Off = string(there.State), there.State == host.Off
	} else if !errors.Is(err, host.ErrNoMachine) {
		return p, err
	}
	u.Withdrawn = slices.ContainsFunc(ended.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.StepWithdraw })
	has, err := ends.From.Machines(ctx)
	if err != nil {
		return p, err
	}
	for _, other := range has {
		u.Has = append(u.Has, machine.Machine{Name: other.Name, UUID: other.UUID})
	}
	for _, d := range ended.Plan.Bodies {
		if d.Request.Release { // it is held, which is looked at with the disk
			continue
		}
		folder, err := s.folder(ctx, d.Request.Source.Pool)
		if err != nil {
			return p, err
		}
		if _, err := folder.Stat(d.Request.Source.Path); err != nil {
			u.Missing = append(u.Missing, d.Request.Source.String())
		}
	}
	return plan.TakeMachineBack(p, u), nil
}
