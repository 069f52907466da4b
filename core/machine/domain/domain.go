// Package domain reads definitions that are an XML document with a root element "domain".
package domain

import (
	"encoding/xml"
	"fmt"

	"bagaglio/core/machine"
)

func init() {
	machine.Register(machine.Format{Name: "domain-xml", Extension: ".xml", Read: read})
}

// domain is what is read of the root element.
type domain struct {
	XMLName xml.Name `xml:"domain"`
	Name    string   `xml:"name"`
	Disks   []struct {
		Device string `xml:"device,attr"` // disk where it is absent
		Source struct {
			File string `xml:"file,attr"`
			Dev  string `xml:"dev,attr"`
		} `xml:"source"`
	} `xml:"devices>disk"`
}

func read(text []byte) (machine.Definition, error) {
	var x domain
	if err := xml.Unmarshal(text, &x); err != nil {
		return machine.Definition{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
	}
	d := machine.Definition{Name: x.Name}
	for _, disk := range x.Disks {
		switch {
		case disk.Device != "" && disk.Device != "disk": // a drive for removable media
		case disk.Source.File != "":
			d.Disks = append(d.Disks, disk.Source.File)
		default:
			d.Disks = append(d.Disks, disk.Source.Dev)
		}
	}
	return d, nil
}
