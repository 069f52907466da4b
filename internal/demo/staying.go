package demo

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"bagaglio/api"
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
			disk := definition.Disk{File: s.inHarbour(to.Path), Format: "vmdk", Bus: "scsi"}
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
	if err != nil {
		return err
	}
	if err := s.packed(ctx); err != nil {
		return err
	}
	return s.mend(ctx)
}

// mend has somebody tidy up a folder by hand, finds the machine that misses its disk, and has it use that where it is now.
func (s *show) mend(ctx context.Context) error {
	moved := s.inHarbour("cargo-ledger/tidied")
	if err := os.Mkdir(moved, 0o755); err != nil {
		return err
	}
	files, err := filepath.Glob(s.inHarbour("cargo-ledger/*.vmdk*"))
	if err != nil {
		return err
	}
	for _, f := range files {
		if err := os.Rename(f, filepath.Join(moved, filepath.Base(f))); err != nil {
			return err
		}
	}
	refresh := true
	if _, err := s.service.ListDisks(ctx, "harbour", api.ListDisksParams{Refresh: &refresh}); err != nil {
		return err
	}
	found, err := s.service.MachineFindings(ctx, "quay")
	if err != nil {
		return err
	}
	if len(found.Items) != 1 || found.Items[0].Mends == nil {
		return fmt.Errorf("the disk that somebody moved away was not found: %+v", found.Items)
	}
	s.say("\nSomebody tidied up. What is wrong with machines now: %s", found.Items[0].What)
	_, err = s.carry(ctx, "cargo-ledger uses its disk where that is now", (*found.Items[0].Mends)[0])
	return err
}

// packed shows a machine that goes onto the drive that travels as a package, and comes back from there as another one.
func (s *show) packed(ctx context.Context) error {
	at := plan.Place{Pool: "seabag", Path: "tide-board.ova"}
	_, err := s.carry(
		ctx,
		"tide-board becomes a package on the seabag",
		plan.Request{Kind: plan.PackMachine, Machine: "quay:tide-board", Destination: &at},
	)
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, "tar", "-tvf", filepath.Join(s.dir, "seabag", at.Path)).CombinedOutput()
	if err != nil {
		return fmt.Errorf("listing the package with tar: %w: %s", err, out)
	}
	s.say("\ntar -tvf seabag/tide-board.ova\n%s", out)
	_, err = s.carry(ctx, "The package becomes a machine of the quay again", plan.Request{
		Kind:        plan.CopyMachine,
		Source:      at,
		To:          "quay",
		Name:        "tide-board-abroad",
		Destination: &plan.Place{Pool: "harbour"},
		As:          "vmdk",
		Layout:      "flat",
	})
	return err
}
