package machine

import "slices"

// Limits are what a host takes of machines. What is empty is not known, and nothing is said against it.
type Limits struct {
	Formats    []string // of images
	Layouts    []string // likewise
	Buses      []string // of disks
	Firmware   []string
	Chipsets   []string
	Processors int   // at most, of a machine
	Memory     int64 // likewise, in bytes
}

// Takes tells whether a list has a value. One that says nothing takes all.
func Takes(list []string, value string) bool { return len(list) == 0 || slices.Contains(list, value) }

// slots are how the slots of disks begin, by buses.
var slots = map[string]string{
	"ide": "hd", "sata": "sd", "scsi": "sd", "usb": "sd", "virtio": "vd", "nvme": "nvme", "fdc": "fd",
}

// Slotted is the machine with a slot for each disk that has none.
func (m Machine) Slotted() Machine {
	m.Disks = slices.Clone(m.Disks)
	for i, d := range m.Disks {
		if d.Slot == "" {
			m.Disks[i].Slot = FreeSlot(d.Bus, slices.Concat(m.Disks, m.Drives)...)
		}
	}
	return m
}

// FreeSlot is a slot on a bus that none of the disks has; empty for a bus that is not known.
func FreeSlot(bus string, taken ...Disk) string {
	prefix := slots[bus]
	for letter := 'a'; prefix != "" && letter <= 'z'; letter++ {
		slot := prefix + string(letter)
		if !slices.ContainsFunc(taken, func(d Disk) bool { return d.Slot == slot }) {
			return slot
		}
	}
	return ""
}
