package domain

import (
	"encoding/xml"
	"errors"
	"fmt"
	"maps"
	"math"
	"strings"

	"bagaglio/core/machine"
)

// whole is what is read of the root element to know what a machine is.
type whole struct {
	XMLName     xml.Name `xml:"domain"`
	Name        string   `xml:"name"`
	UUID        string   `xml:"uuid"`
	Title       string   `xml:"title"`
	Description string   `xml:"description"`
	Memory      memory   `xml:"memory"`
	Current     memory   `xml:"currentMemory"`
	Guest       struct {
		ID string `xml:"id,attr"`
	} `xml:"metadata>libosinfo>os"`
	Processors int `xml:"vcpu"`
	CPU        struct {
		Mode     string `xml:"mode,attr"`
		Model    string `xml:"model"`
		Topology struct {
			Sockets int `xml:"sockets,attr"`
			Cores   int `xml:"cores,attr"`
			Threads int `xml:"threads,attr"`
		} `xml:"topology"`
	} `xml:"cpu"`
	OS struct {
		Firmware string `xml:"firmware,attr"`
		Type     struct {
			Machine string `xml:"machine,attr"`
		} `xml:"type"`
		Loader struct {
			Type   string `xml:"type,attr"`
			Secure string `xml:"secure,attr"`
		} `xml:"loader"`
		Variables string `xml:"nvram"`
		Features  []struct {
			Name    string `xml:"name,attr"`
			Enabled string `xml:"enabled,attr"`
		} `xml:"firmware>feature"`
	} `xml:"os"`
	Clock struct {
		Offset string `xml:"offset,attr"`
	} `xml:"clock"`
	Devices struct {
		Disks      []disk      `xml:"disk"`
		Interfaces []connected `xml:"interface"`
		Graphics   []kind      `xml:"graphics"`
		Serials    []kind      `xml:"serial"`
		TPM        []struct{}  `xml:"tpm"`
		Channels   []struct {
			Target struct {
				Name string `xml:"name,attr"`
			} `xml:"target"`
		} `xml:"channel"`
	} `xml:"devices"`
}

// memory is a length of it.
type memory struct {
	Unit  string `xml:"unit,attr"` // KiB where it is absent
	Value int64  `xml:",chardata"`
}

func (m memory) bytes() (int64, error) {
	unit := units[m.Unit]
	if unit == 0 || m.Value < 0 || m.Value > math.MaxInt64/max(unit, 1) {
		return 0, fmt.Errorf("%w: its memory of %d %q makes no sense", machine.ErrOther, m.Value, m.Unit)
	}
	return m.Value * unit, nil
}

type kind struct {
	Type string `xml:"type,attr"`
}

type order struct {
	Order int `xml:"order,attr"`
}

type disk struct {
	Type   string `xml:"type,attr"` // file, block, volume, network
	Device string `xml:"device,attr"`
	Driver struct {
		Type  string `xml:"type,attr"`
		Cache string `xml:"cache,attr"`
	} `xml:"driver"`
	Source struct {
		source
		Pool     string `xml:"pool,attr"`
		Volume   string `xml:"volume,attr"`
		Protocol string `xml:"protocol,attr"`
		Name     string `xml:"name,attr"`
	} `xml:"source"`
	Target struct {
		Slot string `xml:"dev,attr"`
		Bus  string `xml:"bus,attr"`
	} `xml:"target"`
	Boot     order     `xml:"boot"`
	ReadOnly *struct{} `xml:"readonly"`
	Serial   string    `xml:"serial"`
}

type connected struct {
	Type string `xml:"type,attr"`
	MAC  struct {
		Address string `xml:"address,attr"`
	} `xml:"mac"`
	Source struct {
		Network string `xml:"network,attr"`
		Bridge  string `xml:"bridge,attr"`
		Device  string `xml:"dev,attr"`
	} `xml:"source"`
	Model kind  `xml:"model"`
	Boot  order `xml:"boot"`
}

// units are the lengths of units of memory in bytes: those with a b are powers of ten.
var units = map[string]int64{
	"b": 1, "bytes": 1, "": 1 << 10, "k": 1 << 10, "KiB": 1 << 10, "M": 1 << 20, "MiB": 1 << 20, "G": 1 << 30, "GiB": 1 << 30,
	"T": 1 << 40, "TiB": 1 << 40, "KB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12,
}

func describe(text []byte) (machine.Machine, error) {
	var x whole
	if err := xml.Unmarshal(text, &x); err != nil {
		return machine.Machine{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
	}
	length, err := x.Memory.bytes()
	least, leastErr := x.Current.bytes()
	if err := errors.Join(err, leastErr); err != nil {
		return machine.Machine{}, err
	}
	if least >= length {
		least = 0
	}
	m := machine.Machine{
		Name:  x.Name,
		UUID:  x.UUID,
		Notes: strings.TrimSpace(x.Title + "\n" + x.Description),
		Processors: machine.Processors{
			Count: x.Processors, Sockets: x.CPU.Topology.Sockets, Cores: x.CPU.Topology.Cores, Threads: x.CPU.Topology.Threads,
			Model: strings.TrimSpace(x.CPU.Mode + " " + x.CPU.Model),
		},
		Guest:      machine.Family(x.Guest.ID),
		Memory:     length,
		MemoryMin:  least,
		Firmware:   machine.BIOS,
		SecureBoot: x.OS.Loader.Secure == "yes",
		TPM:        len(x.Devices.TPM) > 0,
		Variables:  x.OS.Variables,
		Chipset:    x.OS.Type.Machine,
		Clock:      x.Clock.Offset,
		Disks:      []machine.Disk{},
	}
	for _, f := range x.OS.Features {
		m.SecureBoot = m.SecureBoot || f.Name == "secure-boot" && f.Enabled == "yes"
	}
	if x.OS.Firmware == "efi" || x.OS.Loader.Type == "pflash" {
		m.Firmware = machine.UEFI
	}
	for _, d := range x.Devices.Disks {
		if read := d.machine(); read.Device == "" {
			m.Disks = append(m.Disks, read)
		} else {
			m.Drives = append(m.Drives, read)
		}
	}
	for _, c := range x.Devices.Interfaces {
		m.Networks = append(m.Networks, machine.Network{
			Kind: c.Type, Network: c.Source.Network + c.Source.Bridge + c.Source.Device,
			MAC: c.MAC.Address, Model: c.Model.Type, Boot: c.Boot.Order,
		})
	}
	for _, g := range x.Devices.Graphics {
		m.Displays = append(m.Displays, g.Type)
	}
	for _, s := range x.Devices.Serials {
		m.Serials = append(m.Serials, s.Type)
	}
	for _, c := range x.Devices.Channels {
		m.Channels = append(m.Channels, c.Target.Name)
	}
	return m.Shown(), nil
}

// formats are the formats of images by the types of a disk's driver.
var formats = func() map[string]string {
	of := map[string]string{}
	for format, driver := range maps.All(drivers) {
		of[driver] = format
	}
	return of
}()

func (d disk) machine() machine.Disk {
	m := machine.Disk{
		File: d.Source.name(), Pool: d.Source.Pool, Volume: d.Source.Volume,
		Format: formats[d.Driver.Type], Bus: d.Target.Bus, Slot: d.Target.Slot, Boot: d.Boot.Order,
		Cache: d.Driver.Cache, ReadOnly: d.ReadOnly != nil, Serial: d.Serial,
	}
	if d.Device != "" && d.Device != "disk" {
		m.Device = d.Device
	}
	if d.Type == "network" {
		m.Remote = strings.TrimSpace(d.Source.Protocol + " " + d.Source.Name)
	}
	return m
}
