// Package domain reads definitions that are an XML document with a root element "domain".
package domain

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bagaglio/core/machine"
)

func init() {
	machine.Register(
		machine.Format{
			Name:      "domain-xml",
			Extension: ".xml",
			Read:      read,
			Follow:    follow,
			Describe:  describe,
			Rewrite:   rewrite,
			Without:   without,
			Write:     write,
			Images:    slices.Sorted(maps.Keys(drivers)),
		},
	)
}

// drivers are the types of a disk's driver by formats of images. The daemon knows none for vhdx, though its emulator does.
var drivers = map[string]string{"raw": "raw", "qcow2": "qcow2", "vmdk": "vmdk", "vdi": "vdi", "vhd": "vpc"}

// domain is what is read of the root element.
type domain struct {
	XMLName     xml.Name `xml:"domain"`
	Name        string   `xml:"name"`
	Description *string  `xml:"description"`
	Disks       []struct {
		Device string    `xml:"device,attr"` // disk where it is absent
		Driver *struct{} `xml:"driver"`
		Source source    `xml:"source"`
		Base   *base     `xml:"backingStore"`
	} `xml:"devices>disk"`
	Controllers []controller `xml:"devices>controller"`
}

type controller struct {
	Type string `xml:"type,attr"`
}

type source struct {
	File string `xml:"file,attr"`
	Dev  string `xml:"dev,attr"`
}

func (s source) name() string { return cmp.Or(s.File, s.Dev) }

// base is what a disk stands on, and what that stands on.
type base struct {
	Source source `xml:"source"`
	Base   *base  `xml:"backingStore"`
}

func read(text []byte) (machine.Definition, error) {
	var x domain
	if err := xml.Unmarshal(text, &x); err != nil {
		return machine.Definition{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
	}
	d := machine.Definition{Name: x.Name}
	for _, disk := range x.Disks {
		if disk.Device != "" && disk.Device != "disk" { // a drive for removable media
			continue
		}
		d.Disks = append(d.Disks, disk.Source.name())
		for b := disk.Base; b != nil; b = b.Base {
			d.Bases = append(d.Bases, b.Source.name())
		}
	}
	return d, nil
}

// Where the system has its block devices, and there again files.
const (
	devices = "/dev/"
	shared  = "/dev/shm/"
)

// kindOf is the type of a disk by the name of its source.
func kindOf(file string) string {
	if strings.HasPrefix(file, devices) && !strings.HasPrefix(file, shared) {
		return "block"
	}
	return "file"
}

// said is the attribute that has the name of a source.
func said(file string) string {
	if kindOf(file) == "block" {
		return "dev"
	}
	return "file"
}

// follow changes the names of files of disks and of what they stand on, and the type of a disk's driver.
func follow(text []byte, c machine.Change) ([]byte, error) {
	var x domain
	if err := xml.Unmarshal(text, &x); err != nil {
		return nil, err
	}
	disk := -1 // which of them, in their order
	return machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) {
		if len(around) == 2 && around[1] == "devices" && e.Name.Local == "disk" {
			if disk++; disk < len(x.Disks) {
				if to, ok := c.Names[x.Disks[disk].Source.name()]; ok && said(to) != said(x.Disks[disk].Source.name()) {
					edit.Attributes = map[string]string{"type": kindOf(to)}
				}
			}
			return edit
		}
		if len(around) < 3 || around[1] != "devices" || around[2] != "disk" || disk < 0 || disk >= len(x.Disks) {
			return edit
		}
		direct := len(around) == 3 // and not of what it stands on
		_, moves := c.Names[x.Disks[disk].Source.name()]
		converted := direct && moves && c.Format != ""
		switch e.Name.Local {
		case "source":
			edit.Attributes = map[string]string{}
			for _, a := range e.Attr {
				to, ok := c.Names[a.Value]
				if ok && (a.Name.Local == "file" || a.Name.Local == "dev") {
					as := a.Name.Local
					if said(to) != said(a.Value) {
						as, edit.Loses = said(to), append(edit.Loses, as)
					}
					edit.Attributes[as] = to
				}
			}
			if converted && x.Disks[disk].Driver == nil { // which would be taken for raw
				edit.Before = "<driver type='" + drivers[c.Format] + "'/>"
			}
		case "driver":
			if converted {
				edit.Attributes = map[string]string{"type": drivers[c.Format]}
			}
		}
		return edit
	})
}
