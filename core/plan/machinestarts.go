package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"bagaglio/core/inspect"
	"bagaglio/core/machine"
)

// NeedsStarts tells whether a disk of a machine gets another bus, or was in a computer, or the machine gets another firmware: then it matters what it starts from.
func (r Request) NeedsStarts(m machine.Machine, i int) bool {
	bus := r.bus(m, i)
	return r.Source.IsDevice() || bus != "" && bus != m.Disks[i].Bus || r.Changes.Firmware != "" && r.Changes.Firmware != m.Firmware
}

// checkStarts: whether the guest has what it needs to start on another bus, or with another firmware, as far as its disks show.
func (w *whole) checkStarts() {
	for _, s := range w.f.Starts {
		w.m.LoadsFirst = w.m.LoadsFirst || slices.ContainsFunc(s.Systems, inspect.System.LoadsFirst)
	}
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
		if w.r.Fit { // what is done about it is said with the disk
			continue
		}
		keep := maps.Clone(w.r.Changes.Buses)
		keep[DiskName(w.f.Is, i)] = d.Bus
		stay := remedy("Leave it on "+d.Bus, map[string]any{"changes": map[string]any{"buses": keep}})
		fitted := remedy("Fit the guest to it, on the copy", map[string]any{"fit": true})
		switch has, unknown := s.KnowsBus(bus); {
		case has:
			w.check(Informs, "starts", fmt.Sprintf("What %s starts with has a driver for %s.", DiskName(w.f.Is, i), bus))
		case unknown == "":
			w.check(
				Warns,
				"starts",
				fmt.Sprintf("What %s starts with has no driver for %s: it will not find what it runs from. %s, or leave the bus.",
					DiskName(w.f.Is, i), bus, giveDriver(s)),
				fitted, stay,
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
				w.check(Warns, "starts", f.What+" "+f.Do, fitted, stay)
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

// Tried is what the last trial of a machine on the host that it goes to gave.
type Tried struct {
	At       time.Time `json:"at"`
	CameUp   bool      `json:"came_up"`
	Bus      string    `json:"bus,omitempty"` // and Firmware, where it was tried with others
	Firmware string    `json:"firmware,omitempty"`
}

// checkTried says what the last trial gave.
func (w *whole) checkTried() {
	t := w.f.Tried
	if t == nil {
		return
	}
	with := ""
	for _, other := range []string{t.Bus, t.Firmware} {
		if other != "" {
			with += " with " + other
		}
	}
	when := t.At.Local().Format("2006-01-02 15:04")
	if t.CameUp {
		w.check(Informs, "trial", fmt.Sprintf("It was tried out on %s on %s%s, and came up.", w.m.To, when, with))
		return
	}
	w.check(
		Warns,
		"trial",
		fmt.Sprintf(
			"It was tried out on %s on %s%s, and was not seen to come up: try it with another bus or firmware (bagaglio machine try %s %s).",
			w.m.To,
			when,
			with,
			w.m.Here(),
			w.m.To,
		),
	)
}
