package vmx

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/machine"

	"github.com/google/uuid"
)

// head are the first lines of a new definition. The version is that of the hardware: one that has everything which is written here.
const head = ".encoding = \"UTF-8\"\nconfig.version = \"8\"\nvirtualHW.version = \"14\"\n"

// guests are how families of guests are written.
var guests = map[string]string{machine.Linux: "otherlinux-64", machine.Windows: "windows9-64", machine.BSD: "freebsd-64", "": "other-64"}

// slots are those of each bus, in their order. The seventh of a scsi controller is its own.
var slots = func() map[string][]string {
	slots := map[string][]string{}
	for bus, n := range map[string]struct{ units, each int }{"ide": {2, 2}, "scsi": {4, 16}, "sata": {4, 30}, "nvme": {4, 15}} {
		for unit := range n.units {
			for i := range n.each {
				if bus != "scsi" || i != 7 {
					slots[bus] = append(slots[bus], fmt.Sprintf("%s%d:%d", bus, unit, i))
				}
			}
		}
	}
	return slots
}()

// form is that of a slot.
var form = regexp.MustCompile(`^((ide|scsi|sata|nvme)\d+):\d+$`)

// pair is a line.
type pair struct{ key, value string }

type pairs []pair

func (p *pairs) add(key, value string) { *p = append(*p, pair{key, value}) }

func (p *pairs) text(key, value string) {
	if value != "" {
		p.add(key, value)
	}
}

func (p *pairs) yes(key string, is bool) {
	if is {
		p.add(key, "TRUE")
	}
}

// pairsOf are the lines of what a machine is, in their order.
func pairsOf(m machine.Machine) (pairs, error) {
	var p pairs
	p.add("displayName", m.Name)
	p.text("annotation", m.Notes)
	p.add("guestOS", guests[m.Guest])
	if id, err := uuid.Parse(m.UUID); err == nil {
		p.add("uuid.bios", fmt.Sprintf("% x-% x", id[:8], id[8:]))
	}
	p.add("memsize", strconv.FormatInt((m.Memory+1<<20-1)>>20, 10))
	p.add("numvcpus", strconv.Itoa(m.Processors.Count))
	if m.Processors.Cores > 0 {
		p.add("cpuid.coresPerSocket", strconv.Itoa(m.Processors.Cores*max(1, m.Processors.Threads)))
	}
	if m.Firmware == machine.UEFI {
		p.add("firmware", "efi")
		p.text("nvram", m.Variables)
	}
	p.yes("uefi.secureBoot.enabled", m.SecureBoot)
	p.yes("vtpm.present", m.TPM)
	if err := p.drives(m); err != nil {
		return nil, err
	}
	for i, n := range m.Networks {
		p.card(fmt.Sprintf("ethernet%d", i), n)
	}
	for i, s := range m.Serials {
		port := fmt.Sprintf("serial%d", i)
		p.add(port+".present", "TRUE")
		if !slices.Contains([]string{"file", "pipe", "network", "device"}, s) {
			s = "file"
		}
		p.add(port+".fileType", s)
		if s == "file" {
			p.add(port+".fileName", port+".txt")
		}
	}
	return p, nil
}

// drives are disks, and drives for removable media, each in a slot that it has or the next one of its bus.
func (p *pairs) drives(m machine.Machine) error {
	for _, d := range m.Disks {
		if d.Format != image || d.File == "" {
			return fmt.Errorf("a disk is the file of an image in the format %s, and %q is not", image, d.File+" "+d.Format)
		}
	}
	all := slices.Concat(m.Disks, m.Drives)
	at := places(all)
	controllers := map[string]bool{}
	for i, d := range all {
		if d.Device == "floppy" {
			p.add("floppy0.present", "TRUE")
			p.add("floppy0.fileName", d.File)
			continue
		}
		at := at[i]
		if at == "" {
			return fmt.Errorf("there is no slot left for the disk %s", d.File)
		}
		controller := form.FindStringSubmatch(at)[1]
		if !controllers[controller] && !strings.HasPrefix(at, "ide") {
			p.add(controller+".present", "TRUE")
		}
		controllers[controller] = true
		p.add(at+".present", "TRUE")
		p.add(at+".fileName", d.File)
		if d.Device == "cdrom" {
			kind := "cdrom-image"
			if d.File == "" {
				kind = "cdrom-raw"
			}
			p.add(at+".deviceType", kind)
		}
	}
	return nil
}

// places are the slots of drives: those that they have, and the next one of its bus for each that has none.
func places(all []machine.Disk) []string {
	at, taken := make([]string, len(all)), map[string]bool{}
	for i, d := range all {
		if form.MatchString(d.Slot) && strings.HasPrefix(d.Slot, d.Bus) && !taken[d.Slot] {
			at[i], taken[d.Slot] = d.Slot, true
		}
	}
	for i, d := range all {
		if at[i] == "" && d.Device != "floppy" {
			at[i] = free(d.Bus, taken)
			taken[at[i]] = true
		}
	}
	return at
}

// free is the next slot of a bus, or of sata for one that is not there.
func free(bus string, taken map[string]bool) string {
	all, ok := slots[bus]
	if !ok {
		all = slots["sata"]
	}
	for _, s := range all {
		if !taken[s] {
			return s
		}
	}
	return ""
}

func (p *pairs) card(name string, n machine.Network) {
	p.add(name+".present", "TRUE")
	switch n.Kind {
	case "network":
		p.add(name+".networkName", n.Network)
	case "bridge":
		p.add(name+".connectionType", "bridged")
	default:
		p.add(name+".connectionType", "nat")
	}
	if n.MAC != "" {
		p.add(name+".addressType", "static")
		p.add(name+".address", n.MAC)
	}
	if n.Model == "virtio" { // the one that is fast there
		n.Model = "vmxnet3"
	}
	p.text(name+".virtualDev", n.Model)
}

// write makes a new definition. What it cannot say comes out as the nearest that it can, which whoever compares sees.
func write(m machine.Machine) ([]byte, error) {
	p, err := pairsOf(m)
	if err != nil {
		return nil, err
	}
	out := head
	for _, l := range p {
		out += fmt.Sprintf("%s = \"%s\"\n", l.key, escape(l.value))
	}
	return []byte(out), nil
}

// rewrite changes the lines that are others for what the machine becomes, and leaves the rest.
func rewrite(text []byte, m machine.Machine) ([]byte, error) {
	before, err := describe(text)
	if err != nil {
		return nil, err
	}
	was, err := pairsOf(before)
	if err != nil {
		return nil, err
	}
	is, err := pairsOf(m)
	if err != nil {
		return nil, err
	}
	old, now := was.byKey(), is.byKey()
	out, err := edit(text, func(key, value string) (string, bool) {
		to, stays := now[key]
		from, said := old[key]
		delete(now, key)
		switch {
		case said && !stays:
			return "", false
		case stays && to != from:
			return to, true
		}
		return value, true
	})
	if err != nil {
		return nil, err
	}
	if n := len(out); n > 0 && out[n-1] != '\n' {
		out = append(out, '\n')
	}
	for _, l := range is { // what was not said yet
		if to, ok := now[strings.ToLower(l.key)]; ok && old[strings.ToLower(l.key)] != to {
			out = fmt.Appendf(out, "%s = \"%s\"\n", l.key, escape(to))
		}
	}
	return out, nil
}

// byKey are the values by keys in lower case.
func (p pairs) byKey() map[string]string {
	all := map[string]string{}
	for _, l := range p {
		all[strings.ToLower(l.key)] = l.value
	}
	return all
}

// without drops all lines of the slots of disks, by their places in the order.
func without(text []byte, disks []int) ([]byte, error) {
	m, err := describe(text)
	if err != nil {
		return nil, err
	}
	return edit(text, func(key, value string) (string, bool) {
		for _, i := range disks {
			if i < len(m.Disks) && strings.HasPrefix(key, m.Disks[i].Slot+".") {
				return "", false
			}
		}
		return value, true
	})
}
