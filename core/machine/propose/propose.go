// Package propose makes a machine around a disk that came alone, by what is on it and what its host takes. Each choice has a reason.
package propose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
)

// What a machine gets where nothing tells more.
const (
	processors = 2
	memory     = 2 << 30
	// memoryNTFS is for guests whose root is NTFS: they are known to want more.
	memoryNTFS = 4 << 30
	// least is what a machine gets at least.
	least = 128 << 20
)

// Facts are what is known of the disk and of the host.
type Facts struct {
	Name     string
	UUID     string
	Disk     machine.Disk // its file and format
	Inside   inspect.Contents
	BootCode bool // its first sector has code that a BIOS would run
	Limits   machine.Limits
	Networks []string // of the host, nil where it does not tell
	// Starts is what the disk starts from.
	Starts inspect.Starts
	// Fitted tells that what it lacks for a bus is put in on the copy.
	Fitted bool
	// Computer is the one that the disk is of, nil where that is not known.
	Computer *device.Computer
}

// Machine is the proposal, with a reason for each of its choices, as sentences.
func Machine(f Facts) (m machine.Machine, reasons []string) {
	because := func(format string, args ...any) { reasons = append(reasons, fmt.Sprintf(format, args...)) }
	m = machine.Machine{
		Name:       f.Name,
		UUID:       f.UUID,
		Guest:      guest(f.Inside),
		Processors: machine.Processors{Count: processors},
		Memory:     memory,
		Firmware:   firmware(f, because),
		Serials:    []string{"pty"},
	}
	if m.Guest == machine.Windows {
		m.Memory = memoryNTFS
	}
	why := "nothing on the disk tells what it had"
	if c := f.Computer; c != nil {
		why = "as the computer has, as far as the host allows it"
		m.Processors.Count, m.Memory = max(1, c.Processors), max(c.Memory>>20<<20, least)
	}
	if most := f.Limits.Processors; most > 0 {
		m.Processors.Count = min(m.Processors.Count, most)
	}
	if half := f.Limits.Memory / 2 >> 20 << 20; half > 0 && m.Memory > half {
		m.Memory = half
	}
	because("Memory of %d MiB and %d processors: %s.", m.Memory>>20, m.Processors.Count, why)
	if board := "q35"; m.Firmware == machine.UEFI && slices.Contains(f.Limits.Chipsets, board) {
		m.Chipset = board
		because("The board %s: it is the one that UEFI is made for.", board)
	}
	f.Disk.Bus = bus(f, m, because)
	f.Disk.Slot, f.Disk.Boot = machine.FreeSlot(f.Disk.Bus), 1
	m.Disks = []machine.Disk{f.Disk}
	card := machine.Network{Kind: "user"}
	if len(f.Networks) > 0 {
		card = machine.Network{Kind: "network", Network: f.Networks[0]}
		because("A network card on %s, the first network of the host.", f.Networks[0])
	} else {
		because("A network card that leads out through the host itself: the host tells of no networks.")
	}
	m.Networks = []machine.Network{card}
	if c := f.Computer; c != nil && len(c.Addresses) > 0 {
		m.Networks = nil
		for _, address := range c.Addresses {
			of := card
			of.MAC = address
			m.Networks = append(m.Networks, of)
		}
		because(
			"The network addresses are those of the computer's own cards (%s): never are both to be on one network.",
			strings.Join(c.Addresses, ", "),
		)
	}
	return m, reasons
}

// firmware is the one that finds something to start on the disk.
func firmware(f Facts, because func(string, ...any)) string {
	efi := slices.ContainsFunc(f.Inside.Partitions, func(p inspect.Partition) bool { return strings.HasPrefix(p.Type, "EFI system") })
	switch {
	case efi && machine.Takes(f.Limits.Firmware, machine.UEFI):
		if f.BootCode {
			because("UEFI: the disk has an EFI system partition. It has boot code too: where it does not start, try BIOS.")
		} else {
			because("UEFI: the disk has an EFI system partition.")
		}
		return machine.UEFI
	case f.BootCode:
		because("BIOS: the first sector of the disk has boot code.")
	case efi:
		because("BIOS, since the host has no UEFI, though the disk has an EFI system partition: it may not start.")
	default:
		because("BIOS: the disk has no EFI system partition. It has no boot code either, and may not start.")
	}
	return machine.BIOS
}

// guest is the family whose filesystems are on the disk, empty where none tells.
func guest(c inspect.Contents) string {
	kinds := map[string]bool{}
	for _, p := range c.Partitions {
		if p.Filesystem != nil {
			kinds[p.Filesystem.Kind] = true
		}
	}
	if c.Filesystem != nil {
		kinds[c.Filesystem.Kind] = true
	}
	for _, kind := range []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "swap"} {
		if kinds[kind] {
			return machine.Linux
		}
	}
	if kinds["ntfs"] {
		return machine.Windows
	}
	return ""
}

// buses are those that a disk may be put on, the best first, for a guest that has a driver for every one; and for one that may not.
var buses = map[bool][]string{true: {"virtio", "scsi", "sata", "ide"}, false: {"sata", "ide", "scsi", "virtio"}}

func bus(f Facts, m machine.Machine, because func(string, ...any)) string {
	knows, first := m.Guest == machine.Linux, ""
	for _, b := range buses[knows] {
		if !machine.Takes(f.Limits.Buses, b) {
			continue
		}
		has, unknown := f.Starts.KnowsBus(b)
		if unknown == "" && !has && f.Fitted && knows {
			because("The bus %s: what it starts with gets a driver for it, on the copy.", b)
			return b
		}
		if unknown == "" && !has {
			because("Not the bus %s: what it starts with has no driver for that.", b)
			first = cmp.Or(first, b)
			continue
		}
		if has {
			because("The bus %s: what it starts with has a driver for it.", b)
			return b
		}
		if knows {
			because("The bus %s: guests with such filesystems have a driver for it.", b)
		} else {
			because("The bus %s: every guest has a driver for it, and another one can be chosen when that is known.", b)
		}
		return b
	}
	if first != "" {
		because("The bus %s all the same, since the host takes none that it has a driver for: it will not start.", first)
		return first
	}
	because("The bus %s, which is the one that the host takes.", f.Limits.Buses[0])
	return f.Limits.Buses[0]
}
