package ovf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"text/template"

	"bagaglio/core/machine"
)

// File is a disk of a package: its name there, its length in bytes, and the virtual size of the disk.
type File struct {
	Name           string
	Size, Capacity int64
	Format, Layout string
}

// Write writes the envelope of a machine whose disks are files, in their order. It says what the standard can say.
func Write(m machine.Machine, files []File) ([]byte, error) {
	if len(files) != len(m.Disks) {
		return nil, fmt.Errorf("writing an envelope: %d disks have %d files", len(m.Disks), len(files))
	}
	if m.Container {
		return nil, errors.New("writing an envelope: it is a container, and an envelope has none")
	}
	var out bytes.Buffer
	err := text.Execute(&out, envelopeOf(m, files))
	return out.Bytes(), err
}

// written is what is put into the text.
type written struct {
	machine.Machine
	Files    []writtenFile
	Items    []writtenItem
	Networks []string
	MiB      int64
	OS       int // CIM_OperatingSystem.OSType
}

type writtenFile struct {
	ID, HRef, URI  string
	Size, Capacity int64
}

// writtenItem is one of the hardware; what is empty is not said.
type writtenItem struct {
	ID, Type, Quantity                                  int64
	Name, Units, SubType, Resource, Connection, Address string
	Parent, Slot                                        int64
}

// systems are the types of operating systems of CIM by families of guests: Linux 64-Bit, Windows of whatever version, and unknown.
var systems = map[string]int{"linux": 101, "windows": 103}

// controllers are those of buses.
var controllers = map[string]struct {
	kind    int64
	subType string
}{
	"ide": {
		ideBus,
		"",
	},
	"scsi":   {scsiBus, ""},
	"virtio": {scsiBus, "virtio"},
	"sata":   {otherBus, "AHCI"},
	"nvme":   {otherBus, "NVMe"},
	"usb":    {usbBus, ""},
}

func envelopeOf(m machine.Machine, files []File) written {
	w := written{Machine: m, MiB: m.Memory >> 20, OS: max(systems[m.Guest], 1)}
	for i, f := range files {
		w.Files = append(w.Files, writtenFile{
			ID: fmt.Sprintf("file%d", i+1), HRef: (&url.URL{Path: f.Name}).EscapedPath(), Size: f.Size, Capacity: f.Capacity,
			URI: "urn:format:" + f.Format + "#" + f.Layout,
		})
	}
	add := func(i writtenItem) int64 {
		i.ID = int64(len(w.Items) + 1)
		w.Items = append(w.Items, i)
		return i.ID
	}
	add(writtenItem{Type: processor, Name: "processors", Quantity: int64(max(1, m.Processors.Count)), Units: "hertz * 10^6"})
	add(writtenItem{Type: memory, Name: "memory", Quantity: w.MiB, Units: "byte * 2^20"})
	buses, slots := map[string]int64{}, map[string]int64{}
	on := func(bus string) int64 {
		c, known := controllers[bus]
		if !known {
			bus, c = "scsi", controllers["scsi"]
		}
		if buses[bus] == 0 {
			buses[bus] = add(writtenItem{Type: c.kind, SubType: c.subType, Name: bus + " controller"})
		}
		return buses[bus]
	}
	for i, d := range m.Disks {
		parent := on(d.Bus)
		add(writtenItem{
			Type:     hardDisk,
			Name:     "disk " + strconv.Itoa(i+1),
			Resource: fmt.Sprintf("ovf:/disk/disk%d", i+1),
			Parent:   parent,
			Slot:     slots[d.Bus] + 1,
		})
		slots[d.Bus]++
	}
	for _, d := range m.Drives {
		if d.Device == "floppy" {
			add(writtenItem{Type: floppy, Name: "floppy drive"})
			continue
		}
		add(writtenItem{Type: optical, Name: "optical drive", Parent: on(d.Bus)})
	}
	seen := map[string]bool{}
	for i, n := range m.Networks {
		name := n.Network
		if name == "" {
			name = n.Kind
		}
		if !seen[name] {
			seen[name], w.Networks = true, append(w.Networks, name)
		}
		add(writtenItem{Type: ethernet, Name: "network card " + strconv.Itoa(i+1), SubType: n.Model, Connection: name, Address: n.MAC})
	}
	return w
}

// escape makes text fit for XML.
func escape(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s)) // a strings.Builder takes everything
	return out.String()
}

// text is an envelope (DSP0243, 6 to 9): elements of an item are in the order of their names, as its schema has them.
var text = template.Must(template.New("envelope").Funcs(template.FuncMap{"x": escape, "minus": func(n int64) int64 { return n - 1 }}).Parse(
	`<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData" xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData" xmlns:more="urn:bagaglio:envelope">
  <References>
{{- range .Files}}
    <File ovf:id="{{.ID}}" ovf:href="{{x .HRef}}" ovf:size="{{.Size}}"/>
{{- end}}
  </References>
  <DiskSection>
    <Info>Disks</Info>
{{- range .Files}}
    <Disk ovf:diskId="disk{{slice .ID 4}}" ovf:fileRef="{{.ID}}" ovf:capacity="{{.Capacity}}" ovf:format="{{x .URI}}"/>
{{- end}}
  </DiskSection>
  <NetworkSection>
    <Info>Networks</Info>
{{- range .Networks}}
    <Network ovf:name="{{x .}}"><Description>{{x .}}</Description></Network>
{{- end}}
  </NetworkSection>
  <VirtualSystem ovf:id="{{x .Name}}">
    <Info>A machine</Info>
    <Name>{{x .Name}}</Name>
{{- if .Notes}}
    <AnnotationSection><Info>Notes</Info><Annotation>{{x .Notes}}</Annotation></AnnotationSection>
{{- end}}
    <OperatingSystemSection ovf:id="{{.OS}}"><Info>What runs in it</Info><Description>{{x .Guest}}</Description></OperatingSystemSection>
    <VirtualHardwareSection>
      <Info>Hardware</Info>
{{- range .Items}}
      <Item>
{{- if .Address}}<rasd:Address>{{x .Address}}</rasd:Address>{{end}}
{{- if .Slot}}<rasd:AddressOnParent>{{minus .Slot}}</rasd:AddressOnParent>{{end}}
{{- if .Units}}<rasd:AllocationUnits>{{.Units}}</rasd:AllocationUnits>{{end}}
{{- if .Connection}}<rasd:AutomaticAllocation>true</rasd:AutomaticAllocation><rasd:Connection>{{x .Connection}}</rasd:Connection>{{end}}
<rasd:ElementName>{{x .Name}}</rasd:ElementName>
{{- if .Resource}}<rasd:HostResource>{{.Resource}}</rasd:HostResource>{{end}}<rasd:InstanceID>{{.ID}}</rasd:InstanceID>
{{- if .Parent}}<rasd:Parent>{{.Parent}}</rasd:Parent>{{end}}
{{- if .SubType}}<rasd:ResourceSubType>{{x .SubType}}</rasd:ResourceSubType>{{end}}<rasd:ResourceType>{{.Type}}</rasd:ResourceType>
{{- if .Quantity}}<rasd:VirtualQuantity>{{.Quantity}}</rasd:VirtualQuantity>{{end}}</Item>
{{- end}}
{{- if eq .Firmware "uefi"}}
      <more:Config ovf:required="false" more:key="firmware" more:value="efi"/>
{{- end}}
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
`))

// WriteManifest writes a manifest.
func WriteManifest(sums []Sum) []byte {
	var out bytes.Buffer
	for _, s := range sums {
		_, _ = fmt.Fprintf(&out, "%s(%s)= %x\n", s.Algorithm, s.File, s.Digest) // a buffer takes everything
	}
	return out.Bytes()
}
