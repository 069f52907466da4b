package client

import (
	"context"
	"io"

	"bagaglio/api"
	"bagaglio/core/remains"
)

// Machines returns the machines of a host, or of all when host is empty, and the hosts that could not be asked.
func (s *Service) Machines(ctx context.Context, host string) (api.MachineList, error) {
	p := &api.ListMachinesParams{}
	if host != "" {
		p.Host = &host
	}
	return decode[api.MachineList](s.calls.ListMachines(ctx, p))
}

// MachineFindings returns what is wrong with the machines of a host, or of all when host is empty.
func (s *Service) MachineFindings(ctx context.Context, host string) (api.FindingList, error) {
	p := &api.ListMachineFindingsParams{}
	if host != "" {
		p.Host = &host
	}
	return decode[api.FindingList](s.calls.ListMachineFindings(ctx, p))
}

// Machine returns one machine.
func (s *Service) Machine(ctx context.Context, host, name string) (api.Machine, error) {
	return decode[api.Machine](s.calls.GetMachine(ctx, host, name))
}

// HostStorage is what a host has of storage pools and networks of its own.
func (s *Service) HostStorage(ctx context.Context, host string) (api.HostStorage, error) {
	return decode[api.HostStorage](s.calls.GetHostStorage(ctx, host))
}

// Remains finds what a service whose records are lost left in a folder of a host.
func (s *Service) Remains(ctx context.Context, host, folder string) (remains.Found, error) {
	return decode[remains.Found](s.calls.FindRemains(ctx, host, &api.FindRemainsParams{Folder: folder}))
}

// AddMachine makes a machine known to a host that has its disks already.
func (s *Service) AddMachine(ctx context.Context, host string, n api.NewMachine) (api.Machine, error) {
	return decode[api.Machine](s.calls.AddMachine(ctx, host, n))
}

// ForgetMachine takes a machine that is off from the list of its host.
func (s *Service) ForgetMachine(ctx context.Context, host, name string) error {
	_, err := decode[struct{}](s.calls.ForgetMachine(ctx, host, name))
	return err
}

// ProposeMachine says what a machine could be around a disk that came alone.
func (s *Service) ProposeMachine(ctx context.Context, host string, disk api.LoneDisk) (api.MachineProposal, error) {
	return decode[api.MachineProposal](s.calls.ProposeMachine(ctx, host, disk))
}

// StartMachine switches a machine on.
func (s *Service) StartMachine(ctx context.Context, host, name string) (api.Machine, error) {
	return decode[api.Machine](s.calls.StartMachine(ctx, host, name))
}

// StopMachine asks a machine to end, and waits for that so many seconds; then it cuts it off, if that is wanted.
func (s *Service) StopMachine(ctx context.Context, host, name string, within int, cutOff bool) (api.Machine, error) {
	return decode[api.Machine](s.calls.StopMachine(ctx, host, name, api.MachineStop{Within: within, CutOff: &cutOff}))
}

// Snapshots returns the states of a machine that its host keeps, older ones first.
func (s *Service) Snapshots(ctx context.Context, host, name string) ([]api.Snapshot, error) {
	return items[api.Snapshot](s.calls.ListSnapshots(ctx, host, name))
}

// ChangesSince returns what has changed on a machine since its last receipt.
func (s *Service) ChangesSince(ctx context.Context, host, name string) (api.ChangesSince, error) {
	return decode[api.ChangesSince](s.calls.GetChanges(ctx, host, name))
}

// TryMachine says whether a machine, or one around a disk, comes up on a host. It takes as long as that does.
func (s *Service) TryMachine(ctx context.Context, host string, t api.NewTrial) (api.MachineTrial, error) {
	return decode[api.MachineTrial](s.calls.TryMachine(ctx, host, t))
}

// maxScreen bounds a picture, in bytes.
const maxScreen = 64 << 20

// Screen returns what a machine shows, as PNG.
func (s *Service) Screen(ctx context.Context, host, name string) ([]byte, error) {
	resp, err := s.calls.GetScreen(ctx, host, name)
	if err != nil {
		return nil, unreachable(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return nil, decodeProblem(resp)
	}
	return io.ReadAll(io.LimitReader(resp.Body, maxScreen))
}
