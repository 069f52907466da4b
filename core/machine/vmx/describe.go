package vmx

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"bagaglio/core/machine"

	"github.com/google/uuid"
)

// mostCards bounds how many network cards and serial ports are looked for.
const mostCards = 16

func describe(text []byte) (machine.Machine, error) {
	v, err := parse(text)
	if err != nil {
		return machine.Machine{}, err
	}
	memory, err := v.number("memsize", 4)
	if err != nil {
		return machine.Machine{}, err
	}
	count, err := v.number("numvcpus", 1)
	if err != nil {
		return machine.Machine{}, err
	}
	m := machine.Machine{
		Name: v.of["displayname"], Notes: v.of["annotation"], UUID: identity(v.of["uuid.bios"]), Guest: machine.Family(v.of["guestos"]),
		Memory: int64(memory) << 20, Processors: machine.Processors{Count: count}, Firmware: machine.BIOS,
		SecureBoot: v.yes("uefi.secureboot.enabled"), TPM: v.yes("vtpm.present"), Variables: slashed(v.of["nvram"]), Disks: []machine.Disk{},
	}
	if strings.EqualFold(v.of["firmware"], "efi") {
		m.Firmware = machine.UEFI
	} else {
		m.Variables = "" // they are the settings of a BIOS, which are nothing elsewhere
	}
	if cores, err := v.number("cpuid.corespersocket", 0); err == nil && cores > 0 && count%cores == 0 {
		m.Processors.Sockets, m.Processors.Cores, m.Processors.Threads = count/cores, cores, 1
	}
	for _, s := range v.drives {
		if !v.present(s) {
			continue
		}
		d := machine.Disk{File: slashed(v.of[s+".filename"]), Bus: bus.FindString(s), Slot: s, Device: v.device(s)}
		switch d.Device {
		case "":
			d.Format = image
			m.Disks = append(m.Disks, d)
			continue
		case "floppy":
			d.Bus = "fdc"
		}
		if kind := v.of[s+".devicetype"]; d.Device == "cdrom" && !strings.EqualFold(kind, "cdrom-image") {
			d.File = "" // a drive of the host
		}
		m.Drives = append(m.Drives, d)
	}
	for i := range mostCards {
		if card := fmt.Sprintf("ethernet%d", i); v.yes(card + ".present") {
			m.Networks = append(m.Networks, v.card(card))
		}
		if port := fmt.Sprintf("serial%d", i); v.yes(port + ".present") {
			m.Serials = append(m.Serials, cmp.Or(strings.ToLower(v.of[port+".filetype"]), "device"))
		}
	}
	return m.Shown(), nil
}

// bus is what a slot begins with.
var bus = regexp.MustCompile(`^[a-z]+`)

// number is a value that is one, or what it is where nothing is said.
func (v values) number(key string, otherwise int) (int, error) {
	text := v.of[key]
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > math.MaxInt32 {
		return 0, fmt.Errorf("%w: %s is %q", machine.ErrOther, key, text)
	}
	return n, nil
}

// identity is a UUID that is written as bytes: "56 4d 0e ... -9a 53 ...".
func identity(text string) string {
	b, err := hex.DecodeString(strings.NewReplacer(" ", "", "-", "").Replace(text))
	if err != nil {
		return ""
	}
	id, err := uuid.FromBytes(b)
	if err != nil {
		return ""
	}
	return id.String()
}

func (v values) card(name string) machine.Network {
	n := machine.Network{
		Kind: "network", Network: v.of[name+".networkname"], Model: v.of[name+".virtualdev"],
		MAC: cmp.Or(v.of[name+".address"], v.of[name+".generatedaddress"]),
	}
	if n.Network != "" {
		return n
	}
	switch strings.ToLower(v.of[name+".connectiontype"]) {
	case "nat":
		n.Kind = "user"
	case "custom":
		n.Network = v.of[name+".vnet"]
	case "hostonly":
		n.Network = "hostonly"
	default: // bridged, also where nothing is said
		n.Kind = "bridge"
	}
	return n
}
