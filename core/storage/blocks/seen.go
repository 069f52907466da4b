package blocks

import (
	"io"

	"bagaglio/core/device"
	"bagaglio/core/inspect"
)

// Seen is a disk with what is on it, as programs get it.
type Seen struct {
	Host string `json:"host,omitempty"`
	device.Device
	InUse bool `json:"in_use"`
	// Table is that of its partitions, empty where it has none.
	Table      string `json:"table"`
	Partitions []Part `json:"partitions"`
	// Problem is why what is on it could not be read.
	Problem string `json:"problem,omitempty"`
}

// Part is a partition, or with the number 0 the whole disk where it is one filesystem. Lengths are in bytes.
type Part struct {
	Number     int    `json:"number"`
	Type       string `json:"type"`
	Name       string `json:"name,omitempty"`
	Filesystem string `json:"filesystem"`
	Label      string `json:"label"`
	ID         string `json:"id,omitempty"`
	Offset     int64  `json:"offset"`
	Length     int64  `json:"length"`
	// Used is what of it is not free, -1 where that is not read. Doubt is why that is not to be relied on.
	Used   int64  `json:"used"`
	Doubt  string `json:"doubt,omitempty"`
	Active bool   `json:"active,omitempty"`
	// Uses are who uses it.
	Uses []device.Use `json:"uses,omitempty"`
}

// see looks what is on a disk, whose content is read from r.
func see(d device.Device, r io.ReaderAt) Seen {
	s := Seen{Device: d, InUse: len(d.Uses) > 0, Partitions: []Part{}}
	on := content{r, d.Size}
	c, err := inspect.Inside(on)
	if err != nil {
		s.Problem = err.Error()
		return s
	}
	c.Fill(on)
	s.Table = c.Table
	parts := c.Partitions
	if c.Filesystem != nil {
		parts = []inspect.Partition{{Length: d.Size, Filesystem: c.Filesystem}}
	}
	for _, p := range parts {
		if p.Extended() {
			continue
		}
		part := Part{Number: p.Number, Type: p.Type, Name: p.Name, Offset: p.Offset, Length: p.Length, Used: -1, Active: p.Active}
		if f := p.Filesystem; f != nil {
			part.Filesystem, part.Label, part.ID, part.Doubt = f.Kind, f.Label, f.ID, f.Doubt
			if f.Size > 0 {
				part.Used = f.Used
			}
		}
		for _, u := range d.Uses {
			if u.Partition == p.Number {
				part.Uses = append(part.Uses, u)
			}
		}
		s.Partitions = append(s.Partitions, part)
	}
	return s
}

// content is that of a disk.
type content struct {
	io.ReaderAt
	size int64
}

func (c content) Size() int64 { return c.size }
