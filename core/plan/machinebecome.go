package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// become says what the machine is to be.
func (w *whole) become(parts []Plan) {
	after := w.f.Is
	after.Disks, after.Drives, after.Networks = nil, slices.Clone(after.Drives), slices.Clone(after.Networks)
	if w.r.Name != "" {
		after.Name = w.r.Name
	}
	if w.newIdentity() {
		after.UUID = w.f.UUID
	}
	for i := range after.Networks {
		after.Networks[i].MAC = w.f.address(w.r, i)
	}
	w.change(&after)
	if notes := w.propertyNotes(); notes != "" && w.r.Changes.Notes == nil {
		after.Notes = strings.TrimSpace(after.Notes + "\n" + notes)
	}
	w.connect(after.Networks)
	for i, d := range w.f.Is.Disks {
		if w.choice(i).Leave && !w.m.Stays() {
			continue
		}
		if i < len(parts) && len(parts[i].After) > 0 { // otherwise it cannot be carried, for which there is a check, or stays
			d.Pool, d.Volume, d.Remote = "", "", ""
			d.File, d.Format = w.file(parts[i].After[0]), parts[i].After[0].Format
		}
		if bus := w.bus(i); bus != "" && bus != d.Bus {
			d.Bus, d.Slot = bus, "" // its definition has the next one
		}
		after.Disks, w.names = append(after.Disks, d), append(w.names, DiskName(w.f.Is, i))
	}
	if w.m.Host != w.m.To || w.m.To == "" {
		for i, d := range after.Drives {
			if d.File != "" {
				w.check(Warns, "drive", fmt.Sprintf("What is in the drive %s stays behind (%s): it will be empty.", d.Slot, d.File))
			}
			after.Drives[i].File = ""
		}
	}
	w.variables(&after, parts)
	if w.r.To == "" {
		into := *w.r.Destination
		into.Path = path.Join(into.Path, DefinitionFile(after.Name, w.f.ToFormat))
		w.m.Into = &into
	}
	w.m.After, w.m.Differences = after, machine.Compare(w.f.Is, after)
}

// DefinitionFile is what the definition of a machine is called in a folder, in a format.
func DefinitionFile(name, format string) string {
	return storage.Printable(strings.ReplaceAll(name, "/", "-")) + extension(format)
}

// extension is that of definitions in a format.
func extension(format string) string {
	f, err := machine.Lookup(format)
	if err != nil {
		return ""
	}
	return f.Extension
}

// file is how the new definition names a file of the machine.
func (w *whole) file(side Side) string {
	if w.r.To == "" && side.Place.Pool == w.r.Destination.Pool { // it lies beside, wherever that will be
		if rel, err := filepath.Rel(w.r.Destination.Path, side.Place.Path); err == nil {
			return rel
		}
	}
	return w.f.Pools[side.Place.Pool].Root.Path(side.Place.Path)
}

// newIdentity tells whether the machine gets one.
func (w *whole) newIdentity() bool { return w.r.newIdentity() }

// change makes the changes that are asked for.
func (w *whole) change(m *machine.Machine) {
	c := w.r.Changes
	if c.Notes != nil {
		m.Notes = *c.Notes
	}
	if c.Processors != 0 && c.Processors != m.Processors.Count {
		m.Processors = machine.Processors{Count: c.Processors, Model: m.Processors.Model} // how they sit is the host's choice then
	}
	if c.Memory != 0 {
		m.Memory, m.MemoryMin = c.Memory, 0
	}
	if c.Chipset != "" {
		m.Chipset = c.Chipset
	}
	if c.Firmware != "" && c.Firmware != m.Firmware {
		m.Firmware, m.SecureBoot = c.Firmware, false
	}
	for i, n := range m.Networks {
		for old, now := range c.Addresses {
			if strings.EqualFold(old, w.f.Is.Networks[i].MAC) {
				n.MAC = now
			}
		}
		m.Networks[i] = n
	}
}

// bus is the one that is asked for a disk, empty for none.
func (w *whole) bus(i int) string { return w.r.bus(w.f.Is, i) }

// variables of the firmware go along where they lie in a pool.
func (w *whole) variables(after *machine.Machine, parts []Plan) {
	was := after.Variables
	if was == "" || w.m.Stays() && after.Firmware == w.f.Is.Firmware {
		return
	}
	after.Variables = ""
	switch {
	case after.Firmware != machine.UEFI: // it has none
	case w.f.Variables.Path == "":
		w.check(
			Warns,
			"firmware",
			fmt.Sprintf(
				"The variables of its firmware (%s) stay behind, since they lie in no pool: the host makes new ones, without boot entries or keys of the old machine. They come along when their folder is a pool (bagaglio pool add NAME %s%s).",
				was,
				path.Dir(was),
				w.option(),
			),
		)
	case len(parts) > len(w.f.Is.Disks) && len(parts[len(w.f.Is.Disks)].After) > 0:
		after.Variables = w.file(parts[len(w.f.Is.Disks)].After[0])
	}
}

// connect connects the cards to the networks that are asked for, or were last, and looks whether those are there.
func (w *whole) connect(cards []machine.Network) {
	for i := range cards {
		n := &cards[i]
		to, asked := w.r.Networks[n.Network]
		if last, ok := w.f.Remembered[n.Network]; ok && !asked && n.Kind == "network" && !slices.Contains(w.f.Networks, n.Network) {
			w.check(
				Informs,
				"network",
				fmt.Sprintf("Network card %d goes from %s to %s, as it did the last time.", i+1, n.Network, or(last, "the host itself")),
			)
			to, asked = last, true
		}
		if asked && n.Network != "" {
			if n.Network = to; to == "" {
				n.Kind = userNetwork
			}
		}
		if n.Kind != "network" || w.f.Networks == nil || slices.Contains(w.f.Networks, n.Network) {
			continue
		}
		var remedies []Remedy
		for _, other := range append(slices.Clone(w.f.Networks[:min(len(w.f.Networks), mostOffered)]), "") {
			label := "Connect it to " + other
			if other == "" {
				label = "Let it out through the host itself"
			}
			remedies = append(remedies, remedy(label, map[string]any{"networks": map[string]any{w.f.Is.Networks[i].Network: other}}))
		}
		w.check(
			Blocks,
			"network",
			fmt.Sprintf("%s has no network %s, which network card %d is connected to.", w.r.To, n.Network, i+1),
			remedies...)
	}
}

// userNetwork is the kind of a card that leads out through its host itself.
const userNetwork = "user"

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// taker is who has to take the machine, in words.
func (w *whole) taker() string {
	if w.r.To == "" {
		return "A definition in the format " + w.f.ToFormat
	}
	return w.r.To
}

// checkLimits: the host takes what the machine is to be.
func (w *whole) checkLimits(parts []Plan) {
	l, m := w.f.Limits, w.m.After
	change := func(what string, to any) map[string]any { return map[string]any{"changes": map[string]any{what: to}} }
	refused := func(what, is string, takes []string, change func(string) map[string]any) {
		var remedies []Remedy
		for _, other := range takes[:min(len(takes), mostOffered)] {
			remedies = append(remedies, remedy("Make it "+other, change(other)))
		}
		w.check(Blocks, "limits", fmt.Sprintf("%s takes no %s %s, but %s.", w.taker(), what, is, strings.Join(takes, ", ")), remedies...)
	}
	if !m.Container && !machine.Takes(l.Firmware, m.Firmware) {
		refused("firmware", m.Firmware, l.Firmware, func(to string) map[string]any { return change("firmware", to) })
	}
	if m.Chipset != "" && !machine.Takes(l.Chipsets, m.Chipset) && w.f.Format == w.f.ToFormat {
		offered := slices.DeleteFunc(slices.Clone(l.Chipsets), func(c string) bool { return strings.Contains(c, "-") })
		refused("chipset", m.Chipset, offered, func(to string) map[string]any { return change("chipset", to) })
	}
	for i, d := range m.Disks {
		if d.Bus != "" && !machine.Takes(l.Buses, d.Bus) {
			refused("disk on the bus", d.Bus, l.Buses, func(to string) map[string]any { return change("buses", map[string]any{w.names[i]: to}) })
		}
	}
	for _, p := range parts[:min(len(parts), len(w.f.Is.Disks))] { // what is behind them is no disk
		if len(p.After) == 0 || len(p.Bodies) == 0 || p.Bodies[0].IsFolder() {
			continue
		}
		if _, more := p.Bodies[0].Request.Fitting(p.After[0], l); more {
			w.check(Blocks, "limits", fmt.Sprintf("%s takes no disk of the form %s, %s.", w.taker(), p.After[0].Format, p.After[0].Layout))
		}
	}
	if l.Processors > 0 && m.Processors.Count > l.Processors {
		w.check(Blocks, "limits", fmt.Sprintf("%s gives a machine %d processors at most, not %d.", w.taker(), l.Processors, m.Processors.Count),
			remedy(fmt.Sprintf("Give it %d", l.Processors), change("processors", l.Processors)))
	}
	if l.Memory > 0 && m.Memory > l.Memory {
		w.check(Blocks, "limits", fmt.Sprintf("%s has %s of memory for all machines, not %s.", w.taker(), Bytes(l.Memory), Bytes(m.Memory)))
	}
}
