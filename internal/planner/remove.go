package planner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
)

// prepareRemoveMachine plans to have a machine go with its disks.
func (s *Planner) prepareRemoveMachine(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	on, name, err := plan.HostAndName(r.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	m, err := s.show(ctx, on, name)
	if err != nil {
		return plan.Plan{}, err
	}
	f := plan.MachineFacts{
		Name: m.Name, State: string(m.State), Off: m.State == host.Off, Saved: m.State == host.Saved,
		Format: m.Format, Text: m.Definition, Is: m.Is, Problem: m.Problem,
	}
	if m.Problem != nil {
		return plan.ForRemoval(r, f, nil), nil
	}
	f.Kept, err = s.guests.Guests(on).Snapshots(ctx, m.Machine)
	if err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, host.ErrRefused) {
		return plan.Plan{}, err
	}
	if f.Adopts, err = s.guests.Adopts(ctx, on); err != nil {
		return plan.Plan{}, err
	}
	var parts []plan.Plan
	for i, d := range m.Disks {
		at := plan.Place{Pool: d.InPool, Path: d.Path}
		if d.Format == machine.Folder {
			at.Format = d.Format
		}
		f.Disks = append(f.Disks, at)
		if at.Path == "" || r.Disks[plan.DiskName(m.Is, i)].Leave {
			parts = append(parts, plan.Plan{})
			continue
		}
		p, err := s.prepareOf(ctx, r.OfRemoval(at), since, r.Machine)
		if err != nil {
			return plan.Plan{}, fmt.Errorf("the disk %s (%s): %w", d.Slot, at, err)
		}
		parts = append(parts, p)
	}
	if v := m.Variables; v.Path != "" {
		at := plan.Place{Pool: v.InPool, Path: v.Path, Format: "raw"}
		p, err := s.prepareOf(ctx, r.OfRemoval(at), since, r.Machine)
		if err != nil {
			return plan.Plan{}, fmt.Errorf("the variables of its firmware (%s): %w", at, err)
		}
		parts = append(parts, p)
	}
	return plan.ForRemoval(r, f, parts), nil
}

// machineIn plans to make a machine known again that a job removed, behind the plan for its disks.
func (s *Planner) machineIn(ctx context.Context, p plan.Plan, ended disks.Ended, m plan.Machine) (plan.Plan, error) {
	u := plan.MachineUndo{Undone: plan.Undone{Job: ended.Job, Task: ended.Task, Journal: ended.Journal}, Machine: m}
	has, err := s.guests.Guests(m.Host).Machines(ctx)
	if err != nil {
		return p, err
	}
	for _, other := range has {
		u.Has = append(u.Has, machine.Machine{Name: other.Name, UUID: other.UUID})
	}
	return plan.TakeMachineIn(p, u), nil
}
