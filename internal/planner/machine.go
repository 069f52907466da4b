package planner

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/plan"
	"bagaglio/core/storage/archive"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"

	"github.com/google/uuid"
)

// prepareMachine plans to carry a whole machine.
func (s *Planner) prepareMachine(ctx context.Context, r plan.Request, since time.Time) (plan.Plan, error) {
	r, err := s.enveloped(ctx, r)
	if err != nil {
		return plan.Plan{}, err
	}
	m, reasons, err := s.carriedMachine(ctx, r)
	if err != nil {
		return plan.Plan{}, err
	}
	present := m.Definition
	var kept *host.Snapshot
	if r.Snapshot != "" {
		then, k, err := s.guests.ShowSnapshot(ctx, m.Host, m.Name, r.Snapshot)
		if err != nil {
			return plan.Plan{}, err
		}
		m, kept = then, &k
	}
	if r.Live { // at the end nothing names the old disks any more
		r.Release = true
	}
	if r.Destination.Path == "" { // a folder of its own
		to := *r.Destination
		to.Path = machineFolder(r, m.Name)
		r.Destination = &to
	}
	f := plan.MachineFacts{
		Name: m.Name, State: string(m.State), Off: m.State == host.Off, Saved: m.State == host.Saved,
		Format: m.Format, Text: m.Definition, Is: m.Is, Problem: m.Problem, Reasons: reasons, Pools: map[string]plan.Reached{},
		Snapshot: kept, Present: present,
	}
	if r.Machine != "" && kept == nil {
		if f.Kept, err = s.guests.Guests(m.Host).Snapshots(ctx, m.Machine); err != nil {
			if !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, host.ErrRefused) {
				return plan.Plan{}, err
			}
		}
	}
	if f.Fresh = uuid.NewString()[:8]; r.Machine != "" && r.To != "" && r.Kind == plan.MoveMachine && (!f.Off || r.StartFirst) {
		if f.Layers, err = s.guests.LayersOn(ctx, m.Host); err != nil {
			return plan.Plan{}, err
		}
		if f.LayersThere, err = s.guests.LayersOn(ctx, r.To); err != nil {
			return plan.Plan{}, err
		}
		if f.Saves, err = s.guests.SavesOn(ctx, m.Host); err != nil {
			return plan.Plan{}, err
		}
		if f.SavesThere, err = s.guests.SavesOn(ctx, r.To); err != nil {
			return plan.Plan{}, err
		}
	}
	if r.To != "" {
		if f.Adopts, err = s.guests.Adopts(ctx, r.To); err != nil {
			return plan.Plan{}, err
		}
		err = s.factsOfHost(ctx, r, m, &f)
	} else {
		err = s.factsOfFolder(ctx, r, m, &f)
	}
	if err != nil {
		return plan.Plan{}, err
	}
	if m.Problem != nil {
		return plan.ForMachine(r, f, nil), nil
	}
	if r.Machine != "" && r.To != "" && kept == nil {
		if f.Tried, err = s.guests.LastTried(ctx, r.Machine, r.To); err != nil {
			return plan.Plan{}, err
		}
	}
	f.UUID, f.MACs = s.identity(r, m, f.There)
	if err := s.unpacks(ctx, r, &m); err != nil {
		return plan.Plan{}, err
	}
	carried := r
	carried.Suspend = r.Suspend && !f.Off // otherwise nobody may use them
	parts, err := s.disksOf(ctx, carried, m, f, since)
	if err != nil {
		return plan.Plan{}, err
	}
	if r.Machine == "" && !r.Source.IsDevice() {
		if f.Package, err = s.packageOf(ctx, r); err != nil {
			return plan.Plan{}, err
		}
	}
	if f.Starts, err = s.startsOf(ctx, r, m); err != nil {
		return plan.Plan{}, err
	}
	for _, d := range m.Disks {
		f.Disks = append(f.Disks, plan.Place{Pool: d.InPool, Path: d.Path, Snapshot: d.Snapshot, Unpacks: d.Unpacks})
	}
	if v := m.Variables; v.Path != "" && (!r.Live || f.Off) {
		f.Variables = plan.Place{Pool: v.InPool, Path: v.Path}
		p, err := s.Prepare(ctx, carried.OfVariables(f.Variables), since)
		if err != nil {
			return plan.Plan{}, fmt.Errorf("the variables of its firmware (%s): %w", f.Variables, err)
		}
		parts = append(parts, p)
	}
	if r.Linked {
		behind, err := s.resting(ctx, r, m, since)
		if err != nil {
			return plan.Plan{}, err
		}
		parts, f.Behind = append(parts, behind...), len(behind)
	}
	for _, pool := range poolsOf(r) {
		if f.Pools[pool], err = s.reached(ctx, pool); err != nil {
			return plan.Plan{}, err
		}
	}
	return plan.ForMachine(r, f, parts), nil
}

// show is a machine of a host, of which something is planned: not while it is tried out.
func (s *Planner) show(ctx context.Context, on, name string) (machines.Machine, error) {
	if err := s.guests.Untried(ctx, on, name); err != nil {
		return machines.Machine{}, err
	}
	return s.guests.Show(ctx, on, name)
}

// carriedMachine is the machine that a request is about; one that is proposed has reasons.
func (s *Planner) carriedMachine(ctx context.Context, r plan.Request) (m machines.Machine, reasons []string, err error) {
	if r.Machine != "" {
		from, name, err := plan.HostAndName(r.Machine)
		if err != nil {
			return m, nil, err
		}
		m, err = s.show(ctx, from, name)
		return m, nil, err
	}
	pool, err := s.places.Record(ctx, r.Source.Pool)
	if err != nil {
		return m, nil, err
	}
	folder, err := s.places.Open(ctx, pool)
	if err != nil {
		return m, nil, err
	}
	if r.Source.IsDevice() {
		return s.guests.OfDevice(ctx, folder, r)
	}
	if folder, err = archive.In(folder, r.Source.Path); err != nil {
		return m, nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	m, err = s.guests.Shelved(ctx, pool, folder, r.Source.Path, r.Deployment)
	return m, nil, err
}

// startsOf looks what disks start from that get another bus, or whose machine gets another firmware. What cannot be looked at says nothing.
func (s *Planner) startsOf(ctx context.Context, r plan.Request, m machines.Machine) (map[string]inspect.Starts, error) {
	all := map[string]inspect.Starts{}
	for i, d := range m.Disks {
		if d.InPool == "" || i >= len(m.Is.Disks) || !r.NeedsStarts(m.Is, i) {
			continue
		}
		if found, err := s.places.Starts(ctx, plan.Place{Pool: d.InPool, Path: d.Path, Format: d.Format}); err == nil {
			all[plan.DiskName(m.Is, i)] = found
		}
	}
	return all, ctx.Err()
}

// elsewhereIn is for how long other hosts are asked whether they have a machine of the same identity.
const elsewhereIn = 3 * time.Second

// factsOfHost finds out about the host that the machine goes to.
func (s *Planner) factsOfHost(ctx context.Context, r plan.Request, m machines.Machine, f *plan.MachineFacts) (err error) {
	if f.ToFormat, err = s.guests.Format(ctx, r.To); err != nil {
		return err
	}
	there, _, err := s.guests.List(ctx, r.To)
	if err != nil {
		return err
	}
	for _, other := range there {
		is := other.Is
		is.Name, is.UUID = other.Name, other.UUID // also where its definition cannot be read
		f.There = append(f.There, is)
	}
	short, cancel := context.WithTimeout(ctx, elsewhereIn)
	defer cancel()
	all, away, err := s.guests.List(short, "")
	if err != nil && short.Err() == nil {
		return err
	}
	for _, h := range away {
		f.Away = append(f.Away, h.Host)
	}
	for _, other := range all {
		if where := other.Host + ":" + other.Name; other.Host != r.To && where != r.Machine {
			f.Elsewhere = append(f.Elsewhere, plan.Twin{Where: where, UUID: other.UUID, Off: other.State == host.Off})
		}
	}
	if f.Networks, err = s.guests.Networks(ctx, r.To); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	if f.Remembered, err = s.records.NetworksBetween(ctx, m.Host, r.To); err != nil {
		return err
	}
	if f.Wakes, err = s.guests.Wakes(ctx, r.To); err != nil {
		return err
	}
	if f.Limits, err = s.guests.Limits(ctx, r.To); err != nil {
		return err
	}
	if format, err := machine.Lookup(f.ToFormat); err == nil && len(f.Limits.Formats) == 0 && !format.AnyImage {
		f.Limits.Formats = format.Images
	}
	return nil
}

// factsOfFolder finds out about the folder that the machine goes into without a host.
func (s *Planner) factsOfFolder(ctx context.Context, r plan.Request, m machines.Machine, f *plan.MachineFacts) error {
	f.ToFormat = own.Name
	if r.Definition != "" {
		f.ToFormat = r.Definition
	}
	format, err := machine.Lookup(f.ToFormat)
	if err != nil {
		return fmt.Errorf("%w: %w", plan.ErrRequest, err)
	}
	if !format.AnyImage {
		f.Limits.Formats = format.Images
	}
	folder, err := s.folder(ctx, r.Destination.Pool)
	if err != nil {
		return err
	}
	name := m.Name
	if r.Name != "" {
		name = r.Name
	}
	at := path.Join(r.Destination.Path, plan.DefinitionFile(name, f.ToFormat))
	switch _, err := folder.Stat(at); {
	case err == nil:
		f.There = append(f.There, machine.Machine{Name: name})
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return nil
}

// poolsOf are those that the disks of a machine go into.
func poolsOf(r plan.Request) []string {
	pools := []string{r.Destination.Pool}
	for _, c := range r.Disks {
		if c.Pool != "" {
			pools = append(pools, c.Pool)
		}
	}
	slices.Sort(pools)
	return slices.Compact(pools)
}

func (s *Planner) reached(ctx context.Context, pool string) (plan.Reached, error) {
	record, err := s.places.Record(ctx, pool)
	if err != nil {
		return plan.Reached{}, err
	}
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return plan.Reached{}, err
	}
	space, err := folder.Space()
	return plan.Reached{Host: record.Host, Root: record.Ground(), Free: space.Free, Removable: space.Removable}, err
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

// disksOf plans each disk of a machine that lies in a pool and is to be carried, in a form that the limits take.
func (s *Planner) disksOf(
	ctx context.Context,
	r plan.Request,
	m machines.Machine,
	f plan.MachineFacts,
	since time.Time,
) (plans []plan.Plan, err error) {
	taken := map[string]bool{}
	for i, d := range m.Disks {
		slot := plan.DiskName(m.Is, i)
		if d.InPool == "" || r.Disks[slot].Leave || r.Linked && d.Snapshot != "" { // nothing stands on a snapshot inside of an image
			plans = append(plans, plan.Plan{})
			continue
		}
		place := plan.Place{Pool: d.InPool, Path: d.Path, Snapshot: d.Snapshot, Unpacks: d.Unpacks}
		if d.Format == "raw" || d.Format == machine.Folder { // nothing in it makes it another format
			place.Format = d.Format
		}
		name := place.Base()
		if place.IsDevice() {
			name = machineFolder(r, m.Name)
		}
		for n, first := 2, name; taken[name]; n++ { // of another folder
			name = fmt.Sprintf("%s-%d", first, n)
		}
		taken[name] = true
		asked := r.OfDisk(slot, place, d.Format, name)
		p, err := s.inNewPlace(ctx, r, asked, d.Format, f, i, since)
		if err == nil && len(p.After) > 0 && !place.IsFolder() && r.As == "" && r.Disks[slot].As == "" && !r.Linked {
			if next, more := p.Request.Fitting(p.After[0], f.Limits); more {
				p, err = s.Prepare(ctx, next, since)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("the disk %s (%s): %w", d.Slot, place, err)
		}
		plans = append(plans, p)
	}
	return plans, nil
}

// inNewPlace plans a disk of a machine, whose guest is fitted to its new place where that is asked for and something of it has to be changed.
func (s *Planner) inNewPlace(
	ctx context.Context,
	r, asked plan.Request,
	format string,
	f plan.MachineFacts,
	i int,
	since time.Time,
) (plan.Plan, error) {
	if !r.Fit || asked.Source.IsFolder() {
		return s.Prepare(ctx, asked, since)
	}
	p, err := s.Prepare(ctx, asked.InNewPlace(f.NewPlace(r, i), format), since)
	if err == nil && asked.Kind == plan.Copy && p.Adapt == nil && !p.Blocked() { // its files are copied as they are
		fitted := slices.DeleteFunc(p.Checks, func(c plan.Check) bool { return c.Name != "fit" })
		if p, err = s.Prepare(ctx, asked, since); err == nil {
			p.Checks = append(p.Checks, fitted...)
		}
	}
	return p, err
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
