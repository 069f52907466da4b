package machine

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
)

// Difference is something in which two machines differ. What one of them does not have is empty.
type Difference struct {
	What   string `json:"what"` // "disk 2, bus"
	Before string `json:"before"`
	After  string `json:"after"`
}

// Compare returns all in which a machine differs from what it was, in the order in which machines are shown.
func Compare(before, after Machine) (all []Difference) {
	was, is := before.facts(), after.facts()
	now := map[string]string{}
	for _, f := range is {
		now[f.What] = f.Value
	}
	seen := map[string]bool{}
	for _, f := range was {
		if seen[f.What] = true; now[f.What] != f.Value {
			all = append(all, Difference{f.What, f.Value, now[f.What]})
		}
	}
	for _, f := range is {
		if !seen[f.What] {
			all = append(all, Difference{f.What, "", f.Value})
		}
	}
	return all
}

// Unasked are the differences between a machine as it was to become and as its host has it. What was left open is for the host to choose,
// so is the version of a board.
func Unasked(wanted, is Machine) (all []Difference) {
	for _, d := range Compare(wanted, is) {
		version := d.What == chipset && boards[d.Before] != "" && strings.HasPrefix(d.After, boards[d.Before])
		if d.Before != "" && !version {
			all = append(all, d)
		}
	}
	return all
}

const chipset = "chipset"

// boards are how versions of a board are called that is asked for without one.
var boards = map[string]string{"pc": "pc-i440fx-", "q35": "pc-q35-"}

// Fact is one thing that a machine is, in words. None of them is empty.
type Fact struct {
	What  string `json:"what"`
	Value string `json:"value"`
}

type facts []Fact

// Facts are all that a machine is, in the order in which it is shown.
func Facts(m Machine) []Fact { return m.facts() }

func (f *facts) add(what, value string) {
	if value != "" {
		*f = append(*f, Fact{what, value})
	}
}

func (f *facts) number(what string, n int) {
	if n != 0 {
		f.add(what, strconv.Itoa(n))
	}
}

// length is told for people, and exactly.
func length(n int64) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf("%s (%s bytes)", humanize.IBytes(uint64(n)), humanize.Comma(n))
}

func (f *facts) yes(what string, is bool) {
	if is {
		f.add(what, "yes")
	}
}

func (m Machine) facts() (f facts) {
	f.add("name", m.Name)
	f.add("UUID", m.UUID)
	f.add("notes", strings.ReplaceAll(m.Notes, "\n", " / "))
	f.yes("container", m.Container)
	f.add("guest", m.Guest)
	f.number("processors", m.Processors.Count)
	f.number("processors, sockets", m.Processors.Sockets)
	f.number("processors, cores", m.Processors.Cores)
	f.number("processors, threads", m.Processors.Threads)
	f.add("processors, model", m.Processors.Model)
	f.add("memory", length(m.Memory))
	f.add("memory, at least", length(m.MemoryMin))
	f.add("firmware", m.Firmware)
	f.yes("secure boot", m.SecureBoot)
	f.yes("TPM", m.TPM)
	f.add("firmware variables", m.Variables)
	f.add(chipset, m.Chipset)
	f.add("clock", m.Clock)
	for i, d := range m.Disks {
		f.disk(fmt.Sprintf("disk %d, ", i+1), d)
	}
	for i, d := range m.Drives {
		f.disk(fmt.Sprintf("drive %d, ", i+1), d)
	}
	for i, n := range m.Networks {
		card := fmt.Sprintf("network card %d, ", i+1)
		f.add(card+"network", strings.TrimSpace(n.Kind+" "+n.Network))
		f.add(card+"MAC", strings.ToLower(n.MAC))
		f.add(card+"model", n.Model)
		f.number(card+"boot", n.Boot)
	}
	for i, d := range m.Displays {
		f.add(fmt.Sprintf("display %d", i+1), d)
	}
	for i, s := range m.Serials {
		f.add(fmt.Sprintf("serial port %d", i+1), s)
	}
	for i, c := range m.Channels {
		f.add(fmt.Sprintf("guest channel %d", i+1), c)
	}
	f.yes("start with the host", m.WithHost)
	return f
}

func (f *facts) disk(which string, d Disk) {
	f.add(which+"device", d.Device)
	f.add(which+"file", d.File)
	f.add(which+"volume", strings.Trim(d.Pool+"/"+d.Volume, "/"))
	f.add(which+"elsewhere", d.Remote)
	f.add(which+"format", d.Format)
	f.add(which+"bus", d.Bus)
	f.add(which+"slot", d.Slot)
	f.number(which+"boot", d.Boot)
	f.add(which+"cache", d.Cache)
	f.yes(which+"read-only", d.ReadOnly)
	f.add(which+"serial", d.Serial)
}
