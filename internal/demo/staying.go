package demo

import (
	"context"
	"fmt"
	"path/filepath"

	"bagaglio/core/host"
	definition "bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/plan"
)

// define makes a machine known to the quay.
func (s *show) define(ctx context.Context, g *guests, m definition.Machine) error {
	text, err := definition.Become(nil, "", own.Name, m)
	if err != nil {
		return err
	}
	kind, err := host.Lookup("standin")
	if err != nil {
		return err
	}
	quay, err := kind.Open(ctx, host.Address{URL: g.url})
	if err != nil {
		return err
	}
	defer quay.Close()
	_, err = quay.(host.Definer).Define(ctx, text)
	return err
}

// small are the machines that stay at the quay: their disks in the harbour, by what they are made of.
var small = []struct {
	name, id, mac string
	disks         map[string]plan.Place
}{
	{"crew-roster", "8d1b62c4-5a0f-4c0e-8a43-1f7d9e2b6c10", "52:54:00:71:c4:01", map[string]plan.Place{
		"crew-roster": {Pool: "lighthouse-store", Path: "crew-roster.raw"},
	}},
	{"tide-board", "8d1b62c4-5a0f-4c0e-8a43-1f7d9e2b6c11", "52:54:00:71:c4:02", map[string]plan.Place{
		"tide-board": {Pool: "quay-store", Path: "tide-board.raw"},
	}},
	{"cargo-ledger", "8d1b62c4-5a0f-4c0e-8a43-1f7d9e2b6c12", "52:54:00:71:c4:03", map[string]plan.Place{
		"cargo-ledger": {Pool: "quay-store", Path: "cargo-ledger.raw"}, "crates": {Pool: "quay-store", Path: "cargo-ledger.raw"},
	}},
}

// staying shows what is done with machines that stay: a snapshot and a copy of it, and a disk that changes its machine.
func (s *show) staying(ctx context.Context, g *guests) error {
	for _, m := range small {
		is := definition.Machine{
			Name: m.name, UUID: m.id, Memory: 256 << 20, Processors: definition.Processors{Count: 1}, Firmware: definition.BIOS,
			Networks: []definition.Network{{Kind: "network", Network: "quay-lan", MAC: m.mac, Model: "virtio"}},
		}
		for _, name := range []string{m.name, "crates"} {
			from, has := m.disks[name]
			if !has {
				continue
			}
			to := plan.Place{Pool: "harbour", Path: fmt.Sprintf("%s/%s.vmdk", m.name, name)}
			if _, err := s.quietly(ctx, plan.Request{Kind: plan.Convert, As: "vmdk", Layout: "flat", Source: from, Destination: &to}); err != nil {
				return err
			}
			disk := definition.Disk{File: filepath.Join(s.dir, "harbour", to.Path), Format: "vmdk", Bus: "scsi"}
			disk.Slot = definition.FreeSlot(disk.Bus, is.Disks...)
			is.Disks = append(is.Disks, disk)
		}
		if err := s.define(ctx, g, is); err != nil {
			return err
		}
	}
	s.say("\nThe quay runs crew-roster, tide-board and cargo-ledger too.")
	_, err := s.carry(ctx, "The quay keeps the present state of crew-roster", plan.Request{
		Kind: plan.TakeSnapshot, Machine: "quay:crew-roster", Snapshot: "before-the-season", Notes: "As the purser left it.",
	})
	if err != nil {
		return err
	}
	if _, err := s.service.StartMachine(ctx, "quay", "crew-roster"); err != nil {
		return err
	}
	_, err = s.carry(ctx, "crew-roster as it was then becomes a machine of its own, while it runs", plan.Request{
		Kind: plan.CopyMachine, Machine: "quay:crew-roster", Snapshot: "before-the-season", To: "quay", Name: "crew-roster-spring",
		Destination: &plan.Place{Pool: "harbour"},
	})
	if err != nil {
		return err
	}
	_, err = s.carry(ctx, "The crates of cargo-ledger are handed to tide-board", plan.Request{
		Kind: plan.HandDisk, Machine: "quay:cargo-ledger", Slot: "sdb", To: "quay:tide-board",
	})
	return err
}
