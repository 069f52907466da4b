package planner

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/internal/machines"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// prepareMachine plans to carry a whole machine.
func (s *Planner) prepareMachine(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	from, name, err := plan.HostAndName(r.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	m, err := s.guests.Show(ctx, from, name)
	if err != nil {
		return plan.Plan{}, err
	}
	pool, err := s.places.Record(ctx, r.Destination.Pool)
	if err != nil {
		return plan.Plan{}, err
	}
	f := plan.MachineFacts{
		Name: m.Name, State: string(m.State), Off: m.State == host.Off, Saved: m.State == host.Saved,
		Format: m.Format, Text: m.Definition, Is: m.Is, Problem: m.Problem, Host: pool.Host, Root: pool.Folder,
	}
	if f.ToFormat, err = s.guests.Format(ctx, r.To); err != nil {
		return plan.Plan{}, err
	}
	there, _, err := s.guests.List(ctx, r.To)
	if err != nil {
		return plan.Plan{}, err
	}
	for _, other := range there {
		is := other.Is
		is.Name, is.UUID = other.Name, other.UUID // also where its definition cannot be read
		f.There = append(f.There, is)
	}
	f.UUID, f.MACs = s.identity(r, m, f.There)
	if f.Networks, err = s.guests.Networks(ctx, r.To); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return plan.Plan{}, err
	}
	folder, err := s.folder(ctx, pool.Name)
	if err != nil {
		return plan.Plan{}, err
	}
	space, err := folder.Space()
	if err != nil {
		return plan.Plan{}, err
	}
	f.Free = space.Free
	if r.Destination.Path == "" { // a folder of its own
		to := *r.Destination
		to.Path = machineFolder(r, m.Name)
		r.Destination = &to
	}
	disks, err := s.disksOf(ctx, r, m, since)
	if err != nil {
		return plan.Plan{}, err
	}
	for _, d := range m.Disks {
		f.Disks = append(f.Disks, plan.Place{Pool: d.InPool, Path: d.Path})
	}
	return plan.ForMachine(r, f, disks), nil
}

// machineFolder is the name of a folder for a machine.
func machineFolder(r plan.Request, name string) string {
	if r.Name != "" {
		name = r.Name
	}
	return strings.Trim(strings.Map(func(c rune) rune {
		if c == '/' || c == ':' || c < ' ' {
			return '-'
		}
		return c
	}, name), ". ")
}

// disksOf plans each disk of a machine that lies in a pool.
func (s *Planner) disksOf(ctx context.Context, r plan.Request, m machines.Machine, since time.Time) (plans []plan.Plan, err error) {
	taken := map[string]bool{}
	for _, d := range m.Disks {
		if d.InPool == "" {
			plans = append(plans, plan.Plan{})
			continue
		}
		place := plan.Place{Pool: d.InPool, Path: d.Path}
		if d.Format == "raw" { // nothing in it makes it another format
			place.Format = d.Format
		}
		name := strings.TrimSuffix(path.Base(d.Path), path.Ext(d.Path))
		for n, first := 2, name; taken[name]; n++ { // of another folder
			name = fmt.Sprintf("%s-%d", first, n)
		}
		taken[name] = true
		p, err := s.Prepare(ctx, r.OfDisk(place, d.Format, name), since)
		if err != nil {
			return nil, fmt.Errorf("the disk %s (%s): %w", d.Slot, place, err)
		}
		plans = append(plans, p)
	}
	return plans, nil
}

// identity gives a copy a UUID and network addresses that no machine there has. They are the same when it is planned again.
func (s *Planner) identity(r plan.Request, m machines.Machine, there []machine.Machine) (id string, macs []string) {
	what := strings.Join([]string{s.records.ID, m.UUID, r.To, r.Destination.Pool, machineFolder(r, m.Name)}, "\x00")
	for n := 0; ; n++ { // an earlier copy of that name may have another one by now
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%d", what, n))
		id = uuid.NewSHA1(uuid.Nil, sum[:]).String()
		if slices.ContainsFunc(there, func(other machine.Machine) bool { return strings.EqualFold(other.UUID, id) }) {
			continue
		}
		for i := range m.Is.Networks {
			card := sha256.Sum256(append(sum[:], byte(i)))
			macs = append(macs, net.HardwareAddr{0x52, 0x54, 0x00, card[0], card[1], card[2]}.String()) // administered locally: IEEE 802, 8.4
		}
		return id, macs
	}
}

// endsOfMachine are the hosts of a machine.
func (s *Planner) endsOfMachine(m plan.Machine) step.Ends {
	return step.Ends{From: s.guests.Guests(m.Host), To: s.guests.Guests(m.To)}
}

// machineBack plans to take back what a job did with a machine, around the plan for its disks.
func (s *Planner) machineBack(ctx context.Context, p plan.Plan, ended disks.Ended) (plan.Plan, error) {
	m := *ended.Plan.Machine
	u := plan.MachineUndo{Undone: plan.Undone{Job: ended.Job, Task: ended.Task, Journal: ended.Journal}, Machine: m}
	there, err := s.guests.Show(ctx, m.To, m.After.Name)
	if err == nil {
		u.State, u.Off = string(there.State), there.State == host.Off
	} else if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	u.Withdrawn = slices.ContainsFunc(ended.Plan.Steps, func(s plan.Step) bool { return s.Kind == plan.StepWithdraw })
	has, _, err := s.guests.List(ctx, m.Host)
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
