package cli

import (
	"strings"

	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/storage/archive"

	"github.com/spf13/pflag"
)

// ofMachine says which machine a request is about: one of a host, or one by its definition in a pool.
func ofMachine(r *plan.Request, text string) error {
	on, name, err := hostAndName(text)
	if err == nil && (machine.Claim(name) || archive.Claim(name)) {
		r.Source = plan.Place{Pool: on, Path: name}
		return nil
	}
	r.Machine = text
	return err
}

// wishes are flags for what a machine is to be in its new place, and where its disks go.
type wishes struct {
	notes            string
	changes          plan.Changes
	buses, addresses map[string]string
	disks, as, sizes map[string]string
	leave            []string
}

func (w *wishes) flags(f *pflag.FlagSet) {
	f.StringVar(&w.notes, "notes", "", "other notes")
	f.IntVar(&w.changes.Processors, "processors", 0, "another number of processors")
	f.Var(length{&w.changes.Memory}, "memory", "another size of memory, as 2G")
	f.StringVar(&w.changes.Firmware, "firmware", "", "another firmware: bios or uefi")
	f.StringVar(&w.changes.Chipset, "chipset", "", "another chipset")
	f.StringToStringVar(&w.buses, "bus", nil, "another bus for a disk, or for all: SLOT=BUS, all=BUS")
	f.StringToStringVar(&w.addresses, "mac", nil, "another address for a network card: OLD=NEW")
	f.StringToStringVar(&w.disks, "disk", nil, "another pool for a disk, and its folder there: SLOT=POOL[:FOLDER]")
	f.StringToStringVar(&w.as, "disk-as", nil, "another form for a disk: SLOT=FORMAT[:LAYOUT]")
	f.StringToStringVar(&w.sizes, "disk-size", nil, "another size for a disk, with what is on it made to fit: SLOT=LENGTH")
	f.StringSliceVar(&w.leave, "leave", nil, "leave a disk where it is: SLOT")
}

// into puts them into a request.
func (w *wishes) into(r *plan.Request) error {
	r.Changes = w.changes
	r.Changes.Buses, r.Changes.Addresses = w.buses, w.addresses
	if w.notes != "" {
		r.Changes.Notes = &w.notes
	}
	choices := map[string]plan.DiskChoice{}
	for slot, to := range w.disks {
		c := choices[slot]
		c.Pool, c.Path, _ = strings.Cut(to, ":")
		choices[slot] = c
	}
	for slot, as := range w.as {
		c := choices[slot]
		c.As, c.Layout, _ = strings.Cut(as, ":")
		choices[slot] = c
	}
	for slot, size := range w.sizes {
		c := choices[slot]
		if err := (length{&c.Size}).Set(size); err != nil {
			return usage("--disk-size %s: %w", slot, err)
		}
		choices[slot] = c
	}
	for _, slot := range w.leave {
		c := choices[slot]
		c.Leave = true
		choices[slot] = c
	}
	if len(choices) > 0 {
		r.Disks = choices
	}
	return nil
}
