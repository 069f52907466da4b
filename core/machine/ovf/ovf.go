// Package ovf reads descriptors of the Open Virtualization Format (DMTF DSP0243, version 2.1.1).
package ovf

import (
	"encoding/xml"
	"fmt"
	"net/url"

	"bagaglio/core/machine"
)

// Extension is that of envelopes.
const Extension = ".ovf"

func init() {
	// A disk's format is a URI that its maker chose (9.1), so that no other one can be told. The manifest is that of 6.1.
	machine.Register(
		machine.Format{Name: "ovf", Extension: Extension, Read: read, Follow: follow, Describe: describe, Beside: true, Seal: ManifestExtension},
	)
}

// envelope is what is read of the root element (DSP0243, 6). Namespaces differ between versions, and are not looked at.
type envelope struct {
	XMLName xml.Name `xml:"Envelope"`
	Files   []struct {
		ID   string `xml:"id,attr"`
		HRef string `xml:"href,attr"`
	} `xml:"References>File"` // 7.1
	Disks []struct {
		FileRef string `xml:"fileRef,attr"`
	} `xml:"DiskSection>Disk"` // 9.1
	Systems []struct {
		ID   string `xml:"id,attr"`
		Name string `xml:"Name"`
	} `xml:"VirtualSystem"` // 7.2
}

func read(text []byte) (machine.Definition, error) {
	var e envelope
	if err := xml.Unmarshal(text, &e); err != nil {
		return machine.Definition{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
	}
	var d machine.Definition
	if len(e.Systems) > 0 {
		if d.Name = e.Systems[0].Name; d.Name == "" {
			d.Name = e.Systems[0].ID
		}
	}
	files := e.names()
	for _, disk := range e.Disks {
		d.Disks = append(d.Disks, files[disk.FileRef]) // a disk without a file is empty
	}
	return d, nil
}

// names are those of the files, by their IDs.
func (e envelope) names() map[string]string {
	files := map[string]string{}
	for _, f := range e.Files {
		if name, err := url.PathUnescape(f.HRef); err == nil {
			files[f.ID] = name
		}
	}
	return files
}

// follow changes the names of files.
func follow(text []byte, c machine.Change) ([]byte, error) {
	return machine.EditXML(text, func(around []string, e xml.StartElement) (edit machine.Edit) {
		if len(around) != 2 || around[1] != "References" || e.Name.Local != "File" {
			return edit
		}
		for _, a := range e.Attr {
			name, err := url.PathUnescape(a.Value)
			if to, ok := c.Names[name]; ok && err == nil && a.Name.Local == "href" {
				edit.Attributes = map[string]string{"href": (&url.URL{Path: to}).EscapedPath()}
			}
		}
		return edit
	})
}
