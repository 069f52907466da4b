package ovf

import (
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// Said is what an envelope says besides the machine, as far as it concerns who unpacks it.
type Said struct {
	// Lost are things that are not carried, in words, and Stops what the disks cannot be had for.
	Lost, Stops []string
	// Capacities are the virtual sizes of disks by the names of their files, in bytes, where they are told.
	Capacities map[string]int64
	// Parents are the files of disks that other disks of the package stand on, by the files of those.
	Parents    map[string]string
	Properties []Property
	// Compressed are those that are compressed in the package by gzip (RFC 1952).
	Compressed []string
	// Lengths are those of files in bytes, by their names, where they are told.
	Lengths map[string]int64
}

// more is what is read for that.
type more struct {
	Files []struct {
		ID          string `xml:"id,attr"`
		Compression string `xml:"compression,attr"` // 7.1
		Size        string `xml:"size,attr"`
	} `xml:"References>File"`
	Disks []struct {
		ID       string `xml:"diskId,attr"`
		FileRef  string `xml:"fileRef,attr"`
		Capacity string `xml:"capacity,attr"`
		Units    string `xml:"capacityAllocationUnits,attr"`
		Parent   string `xml:"parentRef,attr"`
	} `xml:"DiskSection>Disk"`
	Collections []struct {
		ID string `xml:"id,attr"`
	} `xml:"VirtualSystemCollection"`
	Systems []struct {
		ID       string `xml:"id,attr"`
		Products []struct {
			Class      string `xml:"class,attr"`
			Instance   string `xml:"instance,attr"`
			Properties []struct {
				Key      string `xml:"key,attr"`
				Value    string `xml:"value,attr"`
				Password string `xml:"password,attr"`
				Label    string `xml:"Label"`
			} `xml:"Property"`
		} `xml:"ProductSection"` // 9.5
		Licences []struct{} `xml:"EulaSection"` // 9.6
	} `xml:"VirtualSystem"`
}

// Look says what an envelope says besides the machine.
func Look(text []byte) (Said, error) {
	var m more
	var e envelope
	for _, into := range []any{&m, &e} {
		if err := xml.Unmarshal(text, into); err != nil {
			return Said{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
		}
	}
	said := Said{Capacities: map[string]int64{}, Lengths: map[string]int64{}, Parents: map[string]string{}}
	names := e.names()
	for _, f := range m.Files {
		name := storage.Printable(names[f.ID])
		switch f.Compression {
		case "", "identity":
		case "gzip":
			said.Compressed = append(said.Compressed, names[f.ID])
		default:
			said.Stops = append(
				said.Stops,
				fmt.Sprintf("%s is compressed by %s inside of the package: unpack it first", name, storage.Printable(f.Compression)),
			)
		}
		if n, err := strconv.ParseInt(f.Size, 10, 64); err == nil && n >= 0 {
			said.Lengths[names[f.ID]] = n
		}
	}
	for _, d := range m.Disks {
		for _, parent := range m.Disks {
			if d.Parent != "" && parent.ID == d.Parent {
				said.Parents[names[d.FileRef]] = names[parent.FileRef]
			}
		}
		if d.Parent != "" && said.Parents[names[d.FileRef]] == "" {
			said.Stops = append(said.Stops, storage.Printable(names[d.FileRef])+" stands on another disk that the package does not have")
		}
		i := item{Units: d.Units}
		if d.Units == "" {
			i.Units = "byte"
		}
		var err error
		if i.Quantity, err = strconv.ParseInt(d.Capacity, 10, 64); err != nil {
			continue // one may name a property
		}
		if n, err := i.bytes(); err == nil {
			said.Capacities[names[d.FileRef]] = n
		}
	}
	said.lost(m)
	return said, nil
}

func (s *Said) lost(m more) {
	if n := len(m.Systems); n > 1 || len(m.Collections) > 0 {
		s.Lost = append(s.Lost, "it has several machines: the first one is taken")
	}
	for i, system := range m.Systems {
		if len(system.Licences) > 0 {
			s.Lost = append(s.Lost, "it has a licence that somebody was to agree to: read it in the envelope")
		}
		if i > 0 {
			continue
		}
		for _, product := range system.Products {
			for _, p := range product.Properties {
				key := strings.Trim(product.Class+"."+p.Key+"."+product.Instance, ".") // 9.5.1
				s.Properties = append(s.Properties, Property{
					Key: storage.Printable(
						key,
					),
					Label:  storage.Printable(p.Label),
					Value:  storage.Printable(p.Value),
					Secret: p.Password == "true" || p.Password == "1",
				})
			}
		}
	}
}
