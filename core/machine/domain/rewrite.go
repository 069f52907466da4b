package domain

import (
	"encoding/xml"
	"fmt"
	"html"
	"slices"
	"strconv"

	"bagaglio/core/machine"
)

// rewrite changes what a Machine says, and leaves everything else: elements that are not known, and their order.
func rewrite(text []byte, m machine.Machine) ([]byte, error) {
	before, err := describe(text)
	if err != nil {
		return nil, err
	}
	if len(m.Disks) != len(before.Disks) || len(m.Drives) != len(before.Drives) || len(m.Networks) != len(before.Networks) {
		return nil, fmt.Errorf("it has %d disks, %d drives and %d network cards, and has to keep them",
			len(before.Disks), len(before.Drives), len(before.Networks))
	}
	w := rewriter{before: before, m: m.Slotted(), disk: -1, drive: -1, card: -1}
	if err := xml.Unmarshal(text, &w.x); err != nil {
		return nil, err
	}
	w.described = w.x.Description != nil
	w.controlled = slices.ContainsFunc(w.x.Controllers, func(c controller) bool { return c.Type == "scsi" })
	if n := len(w.x.Disks); n != len(m.Disks)+len(m.Drives) { // the others would name what they name now
		return nil, fmt.Errorf("it has %d disks and drives, of which no more than %d are looked at", n, len(m.Disks)+len(m.Drives))
	}
	return machine.EditXML(text, w.edit)
}

// without drops disks, by their places in the order, drives not counted.
func without(text []byte, disks []int) ([]byte, error) {
	at := -1
	return machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) {
		if kind := attr(e, "device"); len(around) == 2 && around[1] == "devices" && e.Name.Local == "disk" && (kind == "" || kind == "disk") {
			at++
			edit.Drop = slices.Contains(disks, at)
		}
		return edit
	})
}

// rewriter knows which disk, drive or card it is at.
type rewriter struct {
	before, m         machine.Machine
	x                 domain
	disk, drive, card int
	described         bool          // it has notes, which may become others
	controlled        bool          // it has a controller of SCSI
	was, is           *machine.Disk // the disk or drive that it is in, nil for one that is left as it is
}

// text is what an element right below the root is to say, nil where that is what it says.
func (w *rewriter) text(name string) *string {
	switch name {
	case "name":
		return &w.m.Name
	case "uuid":
		return &w.m.UUID
	case "description":
		if w.m.Notes != w.before.Notes {
			return &w.m.Notes
		}
	case "vcpu":
		if w.m.Processors.Count != w.before.Processors.Count {
			count := strconv.Itoa(w.m.Processors.Count)
			return &count
		}
	}
	return nil
}

func (w *rewriter) edit(around []string, e xml.StartElement) machine.Edit {
	name := e.Name.Local
	switch {
	case len(around) == 1 && (name == "memory" || name == "currentMemory") && (w.m.Memory != w.before.Memory || w.m.MemoryMin != w.before.MemoryMin):
		length := w.m.Memory
		if name == "currentMemory" && w.m.MemoryMin > 0 {
			length = w.m.MemoryMin
		}
		kib := strconv.FormatInt(length>>10, 10)
		return machine.Edit{Text: &kib, Attributes: map[string]string{"unit": "KiB"}}
	case len(around) == 1 && name == "title" && w.m.Notes != w.before.Notes:
		return machine.Edit{Drop: true} // it is in the notes, or was
	case len(around) == 1 && name == "devices" && w.m.Notes != w.before.Notes && !w.described:
		return machine.Edit{Before: "<description>" + html.EscapeString(w.m.Notes) + "</description>\n  "}
	case len(around) == 1 && name == "os":
		return w.os()
	case len(around) == 1:
		edit := machine.Edit{Text: w.text(name)}
		if name == "vcpu" && edit.Text != nil && attr(e, "current") != "" {
			edit.Attributes = map[string]string{"current": *edit.Text}
		}
		return edit
	case slices.Equal(around, []string{"domain", "os"}):
		return w.ofOS(name)
	case slices.Equal(around, []string{"domain", "cpu"}) && name == "topology":
		return machine.Edit{Drop: w.m.Processors.Sockets == 0} // it would not be that of the new count
	case w.rewired() && len(around) > 2 && name == "address" && attr(e, "type") == "pci",
		w.rewired() && len(around) == 2 && name == "controller" && slices.Contains([]string{"pci", "ide", "sata"}, attr(e, "type")):
		return machine.Edit{Drop: true} // the host places everything anew
	case len(around) == 2 && around[1] == "devices" && name == "disk":
		return w.enter(e)
	case len(around) == 2 && around[1] == "devices" && name == "interface":
		w.card++
	case len(around) == 3 && around[1] == "devices" && around[2] == "disk" && w.is != nil:
		return w.ofDisk(e)
	case len(around) == 3 && around[1] == "devices" && around[2] == "interface" && w.card < len(w.m.Networks):
		return w.ofCard(name)
	}
	return machine.Edit{}
}

// rewired tells that the machine gets a board of another sort, on which nothing sits where it sat.
func (w *rewriter) rewired() bool { return w.m.Chipset != w.before.Chipset }

// os says which firmware the host is to choose, and the variables where they were not named.
func (w *rewriter) os() (edit machine.Edit) {
	if w.m.Firmware == w.before.Firmware {
		return edit
	}
	if w.m.Firmware == machine.BIOS { // which is the emulator's own
		return machine.Edit{Loses: []string{"firmware"}}
	}
	return machine.Edit{Attributes: map[string]string{"firmware": "efi"}}
}

// ofOS changes an element of what starts the machine. A loader is that of one firmware.
func (w *rewriter) ofOS(name string) (edit machine.Edit) {
	other := w.m.Firmware != w.before.Firmware
	if name == "type" && other && w.m.Firmware == machine.UEFI { // otherwise the host may choose one that starts nothing which is not signed
		edit.Before = `<firmware><feature enabled="no" name="secure-boot"/></firmware>`
	}
	switch {
	case (name == "loader" || name == "firmware" || name == "nvram") && other:
		edit.Drop = true
	case name == "nvram" && w.m.Variables != w.before.Variables:
		if edit.Drop = w.m.Variables == ""; !edit.Drop { // otherwise the host makes new ones
			edit.Text = &w.m.Variables
		}
	case name == "type" && w.rewired():
		edit.Attributes = map[string]string{"machine": w.m.Chipset}
	}
	return edit
}

// attr is the value of an attribute of an element.
func attr(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// enter notes which disk or drive begins. What becomes a file was a device or volume before.
func (w *rewriter) enter(e xml.StartElement) machine.Edit {
	w.was, w.is = nil, nil
	kind := attr(e, "device")
	before, after, at := w.before.Disks, w.m.Disks, &w.disk
	if kind != "" && kind != "disk" {
		before, after, at = w.before.Drives, w.m.Drives, &w.drive
	}
	if *at++; *at >= len(after) {
		return machine.Edit{}
	}
	w.was, w.is = &before[*at], &after[*at]
	var edit machine.Edit
	if !w.controlled && w.is.Bus == "scsi" && w.was.Bus != "scsi" {
		w.controlled = true
		edit.Before = scsiController + "\n    "
	}
	if w.moved() && attr(e, "type") != kindOf(w.is.File) {
		edit.Attributes = map[string]string{"type": kindOf(w.is.File)}
	}
	return edit
}

// moved tells whether the file of the disk becomes another one.
func (w *rewriter) moved() bool { return w.is.File != w.was.File }

// ofDisk changes an element of a disk. What the disk stood on is no part of it any more when its file is another one.
func (w *rewriter) ofDisk(e xml.StartElement) machine.Edit {
	name, format, bus := e.Name.Local, w.is.Format != w.was.Format, w.is.Bus != w.was.Bus
	driver := ""
	if format && w.x.Disks[w.disk+w.drive+1].Driver == nil { // which would be taken for raw
		driver = "<driver type='" + drivers[w.is.Format] + "'/>"
	}
	switch {
	case name == "source" && w.moved() && w.is.File == "": // a drive that is emptied
		return machine.Edit{Drop: true}
	case name == "source" && w.moved() && attr(e, said(w.is.File)) == "":
		file := machine.Edit{Attributes: map[string]string{said(w.is.File): w.is.File}}
		return machine.Edit{Before: driver + file.Element("source"), Drop: true}
	case name == "source" && w.moved():
		return machine.Edit{Before: driver, Attributes: map[string]string{said(w.is.File): w.is.File}}
	case name == "driver" && format:
		return machine.Edit{Attributes: map[string]string{"type": drivers[w.is.Format]}}
	case name == "backingStore" && w.moved(), name == "address" && bus:
		return machine.Edit{Drop: true}
	case name == "target" && (bus || w.is.Slot != w.was.Slot):
		return machine.Edit{Attributes: map[string]string{"bus": w.is.Bus, "dev": w.is.Slot}}
	}
	return machine.Edit{}
}

// ofCard changes an element of a network card.
func (w *rewriter) ofCard(name string) machine.Edit {
	was, is := w.before.Networks[w.card], w.m.Networks[w.card]
	switch {
	case name == "mac" && is.MAC != was.MAC:
		return machine.Edit{Attributes: map[string]string{"address": is.MAC}}
	case name == "model" && is.Model != was.Model:
		return machine.Edit{Attributes: map[string]string{"type": is.Model}}
	case name == "source" && is.Network != was.Network:
		attribute := map[string]string{"network": "network", "bridge": "bridge", "direct": "dev"}[was.Kind]
		if attribute != "" {
			return machine.Edit{Attributes: map[string]string{attribute: is.Network}}
		}
	}
	return machine.Edit{}
}
