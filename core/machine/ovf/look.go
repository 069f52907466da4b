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
	// Lengths are those of files in bytes, by their names, where they are told.
	Lengths map[string]int64
}

// more is what is read for that.
type more struct {
	Files []struct {
		ID          string `xml:"id,attr"`
		Compression string `xml:"compression,attr"` // 7.1
		ChunkSize   string `xml:"chunkSize,attr"`   // 7.1
		Size        string `xml:"size,attr"`
	} `xml:"References>File"`
	Disks []struct {
		FileRef  string `xml:"fileRef,attr"`
		Capacity string `xml:"capacity,attr"`
		Units    string `xml:"capacityAllocationUnits,attr"`
		Parent   string `xml:"parentRef,attr"`
	} `xml:"DiskSection>Disk"`
	Options []struct {
		ID string `xml:"id,attr"`
	} `xml:"DeploymentOptionSection>Configuration"` // 9.8
	Collections []struct {
		ID string `xml:"id,attr"`
	} `xml:"VirtualSystemCollection"`
	Systems []struct {
		ID         string `xml:"id,attr"`
		Properties []struct {
			Key string `xml:"key,attr"`
		} `xml:"ProductSection>Property"` // 9.5
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
	said := Said{Capacities: map[string]int64{}, Lengths: map[string]int64{}}
	names := e.names()
	for _, f := range m.Files {
		name := storage.Printable(names[f.ID])
		if f.Compression != "" && f.Compression != "identity" {
			said.Stops = append(
				said.Stops,
				fmt.Sprintf("%s is compressed by %s inside of the package: unpack it first", name, storage.Printable(f.Compression)),
			)
		}
		if f.ChunkSize != "" {
			said.Stops = append(said.Stops, name+" lies in chunks inside of the package: join them first")
		}
		if n, err := strconv.ParseInt(f.Size, 10, 64); err == nil && n >= 0 {
			said.Lengths[names[f.ID]] = n
		}
	}
	for _, d := range m.Disks {
		if d.Parent != "" {
			said.Stops = append(said.Stops, storage.Printable(names[d.FileRef])+" stands on another disk of the package, which is not supported")
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
	if len(m.Options) > 0 {
		var ids []string
		for _, o := range m.Options {
			ids = append(ids, storage.Printable(o.ID))
		}
		s.Lost = append(
			s.Lost,
			fmt.Sprintf("it can be deployed in several ways (%s): the hardware of all of them is read", strings.Join(ids, ", ")),
		)
	}
	if n := len(m.Systems); n > 1 || len(m.Collections) > 0 {
		s.Lost = append(s.Lost, "it has several machines: the first one is taken")
	}
	for _, system := range m.Systems {
		var keys []string
		for _, p := range system.Properties {
			keys = append(keys, storage.Printable(p.Key))
		}
		if len(keys) > 0 {
			s.Lost = append(s.Lost, fmt.Sprintf("it asks for properties, which its guest does not get (%s)", strings.Join(keys, ", ")))
		}
		if len(system.Licences) > 0 {
			s.Lost = append(s.Lost, "it has a licence that somebody was to agree to: read it in the envelope")
		}
	}
}
