package propose

import (
	"strings"
	"testing"

	"bagaglio/core/inspect"
	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
)

// TestProposals: what is on a disk and what its host takes make the machine, and each choice has a reason.
func TestProposals(t *testing.T) {
	on := func(types ...string) inspect.Contents {
		c := inspect.Contents{}
		for i := 0; i < len(types); i += 2 {
			c.Partitions = append(c.Partitions, inspect.Partition{Type: types[i], Filesystem: &inspect.Filesystem{Kind: types[i+1]}})
		}
		return c
	}
	starts := func(buses ...string) inspect.Starts {
		return inspect.Starts{Systems: []inspect.System{{Kernels: []inspect.Kernel{{Version: "6.1", Buses: buses}}}}}
	}
	esp := on("EFI system", "fat32", "Linux", "ext4")
	for name, c := range map[string]struct {
		facts Facts
		want  string
		says  string
	}{
		"a young one":   {Facts{Inside: esp, Limits: machine.Limits{Chipsets: []string{"pc", "q35"}}}, "uefi q35 virtio vda 2048 linux user", "has an EFI system partition"},
		"both":          {Facts{Inside: esp, BootCode: true}, "uefi  virtio vda 2048 linux user", "try BIOS"},
		"no UEFI":       {Facts{Inside: esp, BootCode: true, Limits: machine.Limits{Firmware: []string{"bios"}}}, "bios  virtio vda 2048 linux user", "has boot code"},
		"cannot":        {Facts{Inside: esp, Limits: machine.Limits{Firmware: []string{"bios"}}}, "bios  virtio vda 2048 linux user", "it may not start"},
		"ntfs":          {Facts{Inside: on("basic data", "ntfs"), BootCode: true}, "bios  sata sda 4096 windows user", "every guest has a driver"},
		"little memory": {Facts{Inside: on("basic data", "ntfs"), Limits: machine.Limits{Memory: 1 << 30, Processors: 1}}, "bios  sata sda 512 windows user", "may not start"},
		"no driver for virtio": {
			Facts{Inside: esp, Starts: starts("sata")}, "uefi  sata sda 2048 linux user", "Not the bus virtio: what it starts with has no driver for that.",
		},
		"no driver at all": {
			Facts{Inside: esp, Starts: starts("nvme"), Limits: machine.Limits{Buses: []string{"virtio", "scsi"}}},
			"uefi  virtio vda 2048 linux user", "it will not start",
		},
		"empty": {Facts{Networks: []string{"pier", "quay"}, Limits: machine.Limits{Buses: []string{"nvme"}}}, "bios  nvme nvmea 2048  network", "the one that the host takes"},
	} {
		t.Run(name, func(t *testing.T) {
			c.facts.Name, c.facts.Disk = "gate-kiosk", machine.Disk{File: "/lamp/kiosk.raw", Format: "raw"}
			m, reasons := Machine(c.facts)
			got := []string{m.Firmware, m.Chipset, m.Disks[0].Bus, m.Disks[0].Slot, "", m.Guest, m.Networks[0].Kind}
			got[4] = map[int64]string{512 << 20: "512", 2 << 30: "2048", 4 << 30: "4096"}[m.Memory]
			assert.Equal(t, c.want, strings.Join(got, " "))
			assert.Contains(t, strings.Join(reasons, " "), c.says)
			assert.GreaterOrEqual(t, len(reasons), 4)
		})
	}
}
