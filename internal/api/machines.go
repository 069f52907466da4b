package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	spec "bagaglio/api"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"
)

func viewMachine(m machines.Machine) spec.Machine {
	v := spec.Machine{Host: m.Host, Name: m.Name, Uuid: m.UUID, State: spec.MachineState(m.State), Disks: views(m.Disks, viewMachineDisk)}
	if m.Problem != nil {
		v.Problem = known(m.Problem.Error())
		return v
	}
	v.Firmware, v.Memory, v.Processors = known(spec.MachineFirmware(m.Is.Firmware)), known(m.Is.Memory), known(m.Is.Processors.Count)
	v.Is = &m.Is
	return v
}

func viewMachineDisk(d machines.Disk) spec.MachineDisk {
	v := spec.MachineDisk{
		Pool:     known(d.InPool),
		Path:     known(d.Path),
		File:     known(d.File),
		HostPool: known(d.Pool),
		Volume:   known(d.Volume),
		Remote: known(
			d.Remote,
		),
		Format:   known(d.Format),
		Bus:      known(d.Bus),
		Slot:     known(d.Slot),
		Boot:     known(d.Boot),
		ReadOnly: known(d.ReadOnly), Removable: known(d.Removable),
	}
	if k := d.Known; k != nil {
		v.VirtualSize, v.AllocatedSize, v.FileSize = &k.VirtualSize, &k.AllocatedSize, &k.FileSize
	}
	return v
}

func viewAway(a machines.Away) spec.AwayHost { return spec.AwayHost{Host: a.Host, Why: a.Why.Error()} }

func (s *server) ListMachines(ctx context.Context, r ListMachinesRequestObject) (ListMachinesResponseObject, error) {
	all, away, err := s.service.Machines.List(ctx, or(r.Params.Host, ""))
	return ListMachines200JSONResponse{Items: views(all, viewMachine), Away: views(away, viewAway)}, err
}

func viewFinding(f machines.Finding) spec.MachineFinding {
	v := spec.MachineFinding{Kind: spec.MachineFindingKind(f.Kind), Machines: f.Machines, What: f.What, Do: f.Do}
	if f.Disk.Pool != "" {
		v.Disk = &f.Disk
	}
	if len(f.Candidates) > 0 {
		v.Candidates = &f.Candidates
	}
	if len(f.Mends) > 0 {
		v.Mends = &f.Mends
	}
	return v
}

func (s *server) ListMachineFindings(ctx context.Context, r ListMachineFindingsRequestObject) (ListMachineFindingsResponseObject, error) {
	found, away, err := s.service.Machines.Check(ctx, or(r.Params.Host, ""))
	return ListMachineFindings200JSONResponse{Items: views(found, viewFinding), Away: views(away, viewAway)}, err
}

func (s *server) FindRemains(ctx context.Context, r FindRemainsRequestObject) (FindRemainsResponseObject, error) {
	found, err := s.service.Places.Remains(ctx, r.Host, r.Params.Folder)
	return FindRemains200JSONResponse(found), err
}

func (s *server) GetHostStorage(ctx context.Context, r GetHostStorageRequestObject) (GetHostStorageResponseObject, error) {
	pools, err := s.service.Machines.Storage(ctx, r.Host)
	if errors.Is(err, errors.ErrUnsupported) {
		err = nil
	}
	if err != nil {
		return nil, err
	}
	networks, err := s.service.Machines.Networks(ctx, r.Host)
	if errors.Is(err, errors.ErrUnsupported) {
		err = nil
	}
	return GetHostStorage200JSONResponse{Pools: views(pools, viewOwnPool), Networks: append([]string{}, networks...)}, err
}

func viewOwnPool(p machines.OwnPool) spec.HostPool {
	return spec.HostPool{Name: p.Name, Folder: p.Folder, Pool: known(p.Ours)}
}

func (s *server) GetMachine(ctx context.Context, r GetMachineRequestObject) (GetMachineResponseObject, error) {
	m, err := s.service.Machines.Show(ctx, r.Host, r.Machine)
	v := viewMachine(m)
	if m.Problem == nil {
		facts := machine.Facts(m.Is)
		v.Facts = &facts
	}
	return GetMachine200JSONResponse(v), err
}

func (s *server) StartMachine(ctx context.Context, r StartMachineRequestObject) (StartMachineResponseObject, error) {
	m, err := s.service.Machines.Show(ctx, r.Host, r.Machine)
	if err == nil {
		err = s.service.Exports.Free(m)
	}
	if err == nil {
		m, err = s.service.Machines.Start(ctx, r.Host, r.Machine)
	}
	return StartMachine200JSONResponse(viewMachine(m)), err
}

// longestStop bounds for how long the end of a machine is waited for, in seconds.
const longestStop = 600

func (s *server) StopMachine(ctx context.Context, r StopMachineRequestObject) (StopMachineResponseObject, error) {
	if r.Body.Within < 0 || r.Body.Within > longestStop {
		return nil, fmt.Errorf("%w: the end of a machine is waited for up to %d seconds", records.ErrInvalid, longestStop)
	}
	m, err := s.service.Machines.Stop(ctx, r.Host, r.Machine, time.Duration(r.Body.Within)*time.Second, or(r.Body.CutOff, false))
	return StopMachine200JSONResponse(viewMachine(m)), err
}

func viewSnapshot(k machines.Snapshot) spec.Snapshot {
	return spec.Snapshot{
		Name:    storage.Printable(k.Name),
		Parent:  storage.Printable(k.Parent),
		Notes:   storage.Printable(k.Notes),
		Taken:   k.Taken,
		Present: k.Present,
		Memory:  k.Memory,
		Room:    k.Room,
	}
}

func (s *server) ListSnapshots(ctx context.Context, r ListSnapshotsRequestObject) (ListSnapshotsResponseObject, error) {
	all, err := s.service.Machines.Snapshots(ctx, r.Host, r.Machine)
	return ListSnapshots200JSONResponse{Items: views(all, viewSnapshot)}, err
}

func (s *server) TryMachine(ctx context.Context, r TryMachineRequestObject) (TryMachineResponseObject, error) {
	b := r.Body
	t := machines.Trial{
		Machine: or(
			b.Machine,
			"",
		),
		Disk:    or(b.Disk, plan.Place{}),
		On:      r.Host,
		Pool:    or(b.Pool, ""),
		Network: or(b.Network, ""),
		Bus:     or(b.Bus, ""),
		Firm:    string(or(b.Firmware, "")),
		Within:  time.Duration(or(b.Within, 0)) * time.Second,
	}
	if (t.Machine == "") == (t.Disk.Path == "") {
		return nil, fmt.Errorf("%w: a machine is tried out, or one around a disk: name one of them", records.ErrInvalid)
	}
	named := plan.Request{Machine: t.Machine, Source: t.Disk, Destination: &plan.Place{Pool: t.Pool}}
	if err := s.gate.requested(ctx, named); err != nil {
		return nil, err
	}
	seen, err := s.service.Machines.Try(ctx, t)
	out := TryMachine200JSONResponse{
		CameUp:    seen.CameUp,
		Evidence:  append([]string{}, seen.Evidence...),
		Seconds:   seen.Took.Seconds(),
		BytesRead: seen.Read,
		Is:        seen.Is.Shown(),
	}
	if seen.Console != nil {
		out.Console = &seen.Console
	}
	if seen.Screen != nil {
		out.Screen = &seen.Screen
	}
	return out, err
}

func (s *server) GetChanges(ctx context.Context, r GetChangesRequestObject) (GetChangesResponseObject, error) {
	c, err := s.service.Machines.Since(ctx, r.Host, r.Machine)
	return GetChanges200JSONResponse{
		Job: strconv.FormatInt(c.Job, 10), Receipt: c.Receipt.ID, Finished: c.Receipt.Finished, Outcome: string(c.Receipt.Outcome),
		Items: append([]machine.Difference{}, c.Since...),
	}, err
}

func (s *server) GetScreen(ctx context.Context, r GetScreenRequestObject) (GetScreenResponseObject, error) {
	picture, err := s.service.Machines.Screen(ctx, r.Host, r.Machine)
	return GetScreen200ImagepngResponse{Body: bytes.NewReader(picture), ContentLength: int64(len(picture))}, err
}

func (s *server) AddMachine(ctx context.Context, r AddMachineRequestObject) (AddMachineResponseObject, error) {
	m, err := s.service.Machines.Add(ctx, r.Host, r.Body.File, []byte(r.Body.Definition))
	if err == nil {
		created(ctx, "/v1/hosts/"+url.PathEscape(m.Host)+"/machines/"+url.PathEscape(m.Name))
	}
	return AddMachine201JSONResponse(viewMachine(m)), err
}

func (s *server) ProposeMachine(ctx context.Context, r ProposeMachineRequestObject) (ProposeMachineResponseObject, error) {
	p, err := s.service.Machines.Propose(ctx, r.Host, r.Body.Pool, r.Body.Path, or(r.Body.Name, ""))
	return ProposeMachine200JSONResponse{File: p.File, Definition: string(p.Definition), Is: p.Is, Reasons: p.Reasons}, err
}

func (s *server) ForgetMachine(ctx context.Context, r ForgetMachineRequestObject) (ForgetMachineResponseObject, error) {
	return ForgetMachine204Response{}, s.service.Machines.Forget(ctx, r.Host, r.Machine)
}
