package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bagaglio/core/inspect"
	"bagaglio/core/machine"
)

// NeedsStarts tells whether a disk of a machine gets another bus, or the machine another firmware: then it matters what it starts from.
func (r Request) NeedsStarts(m machine.Machine, i int) bool {
	bus := r.Changes.Buses[DiskName(m, i)]
	if bus == "" {
		bus = r.Changes.Buses[AllDisks]
	}
	return bus != "" && bus != m.Disks[i].Bus || r.Changes.Firmware != "" && r.Changes.Firmware != m.Firmware
}

// checkStarts: whether the guest has what it needs to start on another bus, or with another firmware, as far as its disks show.
func (w *whole) checkStarts() {
	firmware := []string{}
	for i, d := range w.f.Is.Disks {
		s, ok := w.f.Starts[DiskName(w.f.Is, i)]
		if !ok {
			continue
		}
		firmware = append(firmware, s.Firmware...)
		bus := w.bus(i)
		if bus == "" || bus == d.Bus || len(s.Systems) == 0 {
			continue
		}
		keep := maps.Clone(w.r.Changes.Buses)
		keep[DiskName(w.f.Is, i)] = d.Bus
		stay := remedy("Leave it on "+d.Bus, map[string]any{"changes": map[string]any{"buses": keep}})
		switch has, unknown := s.KnowsBus(bus); {
		case has:
			w.check(Informs, "starts", fmt.Sprintf("What %s starts with has a driver for %s.", DiskName(w.f.Is, i), bus))
		case unknown == "":
			w.check(
				Warns,
				"starts",
				fmt.Sprintf("What %s starts with has no driver for %s: it will not find what it runs from. %s, or leave the bus.",
					DiskName(w.f.Is, i), bus, giveDriver(s)),
				stay,
			)
		default:
			w.check(
				Informs,
				"starts",
				fmt.Sprintf("Whether what %s starts with has a driver for %s is not known: %s.", DiskName(w.f.Is, i), bus, unknown),
				stay,
			)
		}
		for _, f := range s.Findings {
			if strings.Contains(f.What, "another bus") {
				w.check(Warns, "starts", f.What+" "+f.Do, stay)
			}
		}
	}
	now := w.m.After.Firmware
	if now != w.f.Is.Firmware && len(firmware) > 0 && !slices.Contains(firmware, now) {
		w.check(
			Warns,
			"starts",
			fmt.Sprintf("On its disks is nothing that %s starts, but for %s.", strings.ToUpper(now), strings.ToUpper(strings.Join(firmware, ", "))),
			remedy("Leave the firmware", map[string]any{"changes": map[string]any{"firmware": nil}}),
		)
	}
}

// giveDriver says what to do for a system that has no driver.
func giveDriver(s inspect.Starts) string {
	if slices.ContainsFunc(s.Systems, func(y inspect.System) bool { return y.Kind == inspect.Windows }) {
		return "Where it runs now, install the driver and give the machine a small second disk on that bus, so that it is loaded at every start"
	}
	return "Put the driver into its initial memory disk first"
}
