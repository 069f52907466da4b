package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/machine"
)

// attach plans to give the machine a disk.
func (p *staying) attach() {
	bus, old := p.r.Bus, -1
	if p.r.Slot != "" {
		if old = p.slot(); old < 0 {
			return
		}
	}
	if bus == "" && old >= 0 {
		bus = p.f.Is.Disks[old].Bus
	}
	if bus == "" && len(p.f.Is.Disks) > 0 {
		bus = p.f.Is.Disks[0].Bus
	}
	at := p.r.Source
	if p.f.Shut != nil {
		p.check(Blocks, "source", fmt.Sprintf("%s cannot be used: %v.", at, p.f.Shut))
		return
	}
	if p.f.Host != p.m.Host {
		p.check(Blocks, "source", fmt.Sprintf("%s lies on the host %s, and %s could not use it: copy or move it into a pool of %s first.",
			at, cmp.Or(p.f.Host, "local"), p.m.Host, p.m.Host))
		return
	}
	if len(p.f.Users) > 0 {
		p.check(
			Blocks,
			"machine",
			fmt.Sprintf("%s has it already: two machines on one disk destroy it. Hand it over instead, or copy it.", some(p.f.Users)),
		)
	}
	if len(p.f.Standing) > 0 && !p.r.ReadOnly {
		p.check(Blocks, "standing", fmt.Sprintf("%s stand(s) on it, and would be damaged by whatever the machine writes.", some(p.f.Standing)),
			remedy("Attach it for reading only", map[string]any{"read_only": true}))
	}
	if !machine.Takes(p.f.Limits.Formats, p.f.Image.Format) || !machine.Takes(p.f.Limits.Layouts, p.f.Image.Layout) {
		p.check(
			Blocks,
			"format",
			fmt.Sprintf("%s takes no disks that are %s, %s: convert it first.", p.m.Host, p.f.Image.Format, p.f.Image.Layout),
		)
	}
	for _, w := range p.f.Image.Warnings {
		p.check(Warns, "source-state", capital(w)+".")
	}
	d := machine.Disk{File: p.f.File, Format: p.f.Image.Format, Bus: bus, Serial: p.r.Serial, ReadOnly: p.r.ReadOnly}
	stay := slices.Clone(p.f.Is.Disks)
	if p.m.Disk = &d; old >= 0 {
		p.m.Disk, p.m.Given = &p.f.Is.Disks[old], &d
		stay = slices.Delete(stay, old, old+1)
		p.check(
			Informs,
			"files",
			fmt.Sprintf("It comes in the place of the disk %s, whose files are left as they are: %s.", p.r.Slot, p.m.Disk.Lies()),
		)
		p.step(StepDetach, fmt.Sprintf("Take the disk %s from it", p.r.Slot))
	}
	after := d
	after.Slot = machine.FreeSlot(bus, slices.Concat(stay, p.f.Is.Drives)...)
	p.m.After.Disks = append(stay, after)
	if p.f.State == host.Off {
		p.check(Informs, "state", fmt.Sprintf("%s is off, and has it when it starts.", p.m.Here()))
	} else {
		p.check(Informs, "state", fmt.Sprintf("%s is %s, and gets it at once, if its host can do that.", p.m.Here(), p.f.State))
	}
	if old < 0 {
		p.check(Informs, "guest", bringIn)
	}
	p.step(StepAttach, fmt.Sprintf("Give it %s", at))
}

// What is to be done inside of guests.
const (
	bringIn = "Its guest sees a new drive: Linux mounts it (lsblk -f, then fstab); Windows may show it offline in its disk management: " +
		"bring it online, and give it a letter."
	letGo = "See that its guest does not use it any more: unmount it and take it out of fstab, or set it offline in the disk management of Windows."
)

// slot is the place in the order of the disk that the request names, negative where there is none, which blocks.
func (p *staying) slot() int {
	i := slices.IndexFunc(p.f.Is.Disks, func(d machine.Disk) bool { return d.Slot == p.r.Slot })
	if i < 0 {
		var slots []string
		for _, d := range p.f.Is.Disks {
			slots = append(slots, d.Slot)
		}
		p.check(Blocks, "choice", fmt.Sprintf("%s has no disk %s: it has %s.", p.m.Here(), p.r.Slot, strings.Join(slots, ", ")))
	}
	return i
}

// detach plans to take a disk from the machine.
func (p *staying) detach() {
	i := p.slot()
	if i < 0 {
		return
	}
	d := p.f.Is.Disks[i]
	p.m.Disk = &d
	p.m.After.Disks = slices.Delete(slices.Clone(p.f.Is.Disks), i, i+1)
	lies := d.Lies()
	if p.f.Lies.Path != "" {
		lies = p.f.Lies.String()
	}
	p.check(Informs, "files", fmt.Sprintf("Its files stay where they are: %s.", lies))
	if i == 0 {
		p.check(Warns, "starts", "It is the first disk: the machine probably starts from it, and will not any more.")
	}
	if len(p.f.Kept) > 0 {
		p.check(
			Warns,
			"snapshot",
			fmt.Sprintf("The machine has snapshots (%s), which have the disk: going back to one gives it back as it was then.",
				p.f.Kept[0].Name),
		)
	}
	if p.f.State == host.Off {
		p.check(Informs, "state", fmt.Sprintf("%s is off.", p.m.Here()))
	} else {
		p.check(Warns, "state", fmt.Sprintf("%s is %s, and has to let go of it. %s", p.m.Here(), p.f.State, letGo))
	}
	p.step(StepDetach, fmt.Sprintf("Take the disk %s from it", p.r.Slot))
}

// Reverse is the request that takes back what was done with a machine that stays; more is false where nothing does. Slot is the one by which it has
// the disk now that it got, and lies where the one lies that was taken from it.
func (m Machine) Reverse(r Request, slot string, lies Place) (back Request, more bool) {
	switch {
	case r.Kind == TakeSnapshot:
		return Request{Kind: DropSnapshot, Machine: r.Machine, Snapshot: r.Snapshot}, true
	case r.Kind == GoBack && r.KeepPresent != "":
		return Request{Kind: GoBack, Machine: r.Machine, Snapshot: r.KeepPresent}, true
	case r.Kind == AttachDisk && m.Given != nil && slot != "" && lies.Path != "":
		return Request{
			Kind: AttachDisk, Machine: r.Machine, Source: lies, Bus: m.Disk.Bus, Serial: m.Disk.Serial, ReadOnly: m.Disk.ReadOnly, Slot: slot,
		}, true
	case r.Kind == AttachDisk && slot != "":
		return Request{Kind: DetachDisk, Machine: r.Machine, Slot: slot}, true
	case r.Kind == DetachDisk && m.Disk != nil && lies.Path != "":
		return Request{
			Kind: AttachDisk, Machine: r.Machine, Source: lies, Bus: m.Disk.Bus, Serial: m.Disk.Serial, ReadOnly: m.Disk.ReadOnly,
		}, true
	}
	return back, false
}

// IsStaying tells whether a kind of request is for a machine that stays on its host.
func IsStaying(kind string) bool {
	return slices.Contains([]string{TakeSnapshot, GoBack, DropSnapshot, AttachDisk, DetachDisk}, kind)
}
