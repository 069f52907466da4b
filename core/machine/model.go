package machine

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"bagaglio/core/storage"
)

// Firmware of machines.
const (
	BIOS = "bios"
	UEFI = "uefi"
)

// Machine is what a machine is, whatever the host that runs it. What a definition does not say is empty.
type Machine struct {
	Name  string `json:"name"`
	UUID  string `json:"uuid,omitempty"`
	Notes string `json:"notes,omitempty"`
	// Container tells that it is no whole computer: its host runs what is on its first disk, a root volume, with a kernel of its own.
	Container  bool       `json:"container,omitempty"`
	Guest      string     `json:"guest,omitempty"` // the family of what runs in it, see Family
	Processors Processors `json:"processors"`
	Memory     int64      `json:"memory"` // bytes
	// MemoryMin is what it begins with where that is less, in bytes: then Memory is what it may come to have.
	MemoryMin  int64  `json:"memory_min,omitempty"`
	Firmware   string `json:"firmware"`
	SecureBoot bool   `json:"secure_boot,omitempty"`
	TPM        bool   `json:"tpm,omitempty"`
	// Variables is the file with the variables of its firmware.
	Variables string    `json:"variables,omitempty"`
	Chipset   string    `json:"chipset,omitempty"`
	Clock     string    `json:"clock,omitempty"`
	Disks     []Disk    `json:"disks"`
	Drives    []Disk    `json:"drives,omitempty"` // for optical and floppy disks
	Networks  []Network `json:"networks,omitempty"`
	Displays  []string  `json:"displays,omitempty"`
	Serials   []string  `json:"serials,omitempty"`  // ports, by where they lead
	Channels  []string  `json:"channels,omitempty"` // to the guest, by name
	// WithHost starts it whenever its host starts.
	WithHost bool `json:"with_host,omitempty"`
}

// StartsBy is by what it starts, in a word: its firmware, or as a container by the kernel of its host.
func (m Machine) StartsBy() string {
	if m.Container {
		return "container"
	}
	return m.Firmware
}

// Processors are those of a machine.
type Processors struct {
	Count   int    `json:"count"`
	Sockets int    `json:"sockets,omitempty"`
	Cores   int    `json:"cores,omitempty"`   // of each socket
	Threads int    `json:"threads,omitempty"` // of each core
	Model   string `json:"model,omitempty"`   // as asked
}

// Disk is a disk of a machine. It is a file, a device, or a volume in a storage pool of its host.
type Disk struct {
	Device   string `json:"device,omitempty"` // of a drive: cdrom, floppy
	File     string `json:"file,omitempty"`
	Pool     string `json:"host_pool,omitempty"` // of the host, with Volume
	Volume   string `json:"volume,omitempty"`
	Remote   string `json:"remote,omitempty"` // where it lies elsewhere, in words
	Format   string `json:"format,omitempty"`
	Bus      string `json:"bus,omitempty"`
	Slot     string `json:"slot,omitempty"`
	Boot     int    `json:"boot,omitempty"` // its place in the order, from 1
	Cache    string `json:"cache,omitempty"`
	ReadOnly bool   `json:"read_only,omitempty"`
	Serial   string `json:"serial,omitempty"`
}

// Folder is the format of a root volume that is a folder with the files of a container.
const Folder = "folder"

// Lies says where it lies, in words.
func (d Disk) Lies() string {
	return cmp.Or(d.File, strings.Trim(d.Pool+"/"+d.Volume, "/"), d.Remote)
}

// Network is a network card of a machine.
type Network struct {
	Kind    string `json:"kind"` // how it is connected
	Network string `json:"network,omitempty"`
	MAC     string `json:"mac,omitempty"`
	Model   string `json:"model,omitempty"`
	Boot    int    `json:"boot,omitempty"`
}

// Shown is the machine with nothing in it that cannot be shown, but for lines of its notes, and not more than can be looked at.
func (m Machine) Shown() Machine {
	lines := strings.Split(m.Notes, "\n")
	printable(reflect.ValueOf(&m).Elem())
	for i, line := range lines {
		lines[i] = storage.Printable(line)
	}
	m.Notes = strings.Join(lines, "\n")
	return m
}

// most bounds how many of each sort of device are told.
const most = 256

func printable(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(storage.Printable(v.String()))
	case reflect.Struct:
		for i := range v.NumField() {
			printable(v.Field(i))
		}
	case reflect.Slice:
		v.Set(v.Slice(0, min(v.Len(), most)))
		for i := range v.Len() {
			printable(v.Index(i))
		}
	default: // numbers
	}
}

// Describe reads what a machine is out of the text of a definition of a format.
func Describe(format string, text []byte) (Machine, error) {
	f, err := Lookup(format)
	if err != nil {
		return Machine{}, err
	}
	if f.Describe == nil {
		return Machine{}, fmt.Errorf("what a machine is cannot be read of %s: %w", format, errors.ErrUnsupported)
	}
	if len(text) > maxLength {
		return Machine{}, fmt.Errorf("%w: it is longer than %d bytes", ErrOther, maxLength)
	}
	return f.Describe(text)
}

// Without returns a definition without some of its disks, by their places in the order.
func Without(format string, text []byte, disks []int) ([]byte, error) {
	f, err := Lookup(format)
	if err != nil || len(disks) == 0 || f.Without == nil {
		return text, err
	}
	if text, err = f.Without(text, disks); err != nil {
		return nil, fmt.Errorf("taking disks out of the definition: %w", err)
	}
	return text, nil
}

// Become returns the definition, in the format to, of a machine that is now what is said, from its text in the format from. In the same format
// what is not said of a machine stays as it is, and it fails where something would not come out as it should.
func Become(text []byte, from, to string, now Machine) ([]byte, error) {
	f, err := Lookup(to)
	if err != nil {
		return nil, err
	}
	if now.Container && !f.Containers {
		return nil, fmt.Errorf("writing the definition of %s: it is a container, and the format %s has none", now.Name, to)
	}
	var out []byte
	switch {
	case from == to && f.Rewrite != nil:
		out, err = f.Rewrite(text, now)
	case f.Write != nil:
		out, err = f.Write(now)
	default:
		err = fmt.Errorf("definitions of the format %s: %w", to, errors.ErrUnsupported)
	}
	if err != nil {
		return nil, fmt.Errorf("writing the definition of %s: %w", now.Name, err)
	}
	after, err := Describe(to, out)
	if err != nil {
		return nil, fmt.Errorf("writing the definition of %s: it could not be read any more: %w", now.Name, err)
	}
	if d := Unasked(now.Shown(), after); len(d) > 0 && from == to {
		return nil, fmt.Errorf("writing the definition of %s: %s would be %q and not %q", now.Name, d[0].What, d[0].After, d[0].Before)
	}
	return out, nil
}
