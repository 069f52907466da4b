package domain

import (
	"fmt"
	"slices"
	"strings"
	"text/template"

	"bagaglio/core/machine"
)

// scsiController is the one of machines that get their first disk on that bus: systems of today have a driver for it, and none for what hosts choose otherwise.
const scsiController = `<controller type="scsi" model="virtio-scsi"/>`

func hasSCSI(m machine.Machine) bool {
	return slices.ContainsFunc(append(slices.Clone(m.Disks), m.Drives...), func(d machine.Disk) bool { return d.Bus == "scsi" })
}

// definition is the text of a new machine. What a Machine does not say is the host's choice. It runs by software emulation, which is there on
// every host: whoever has more changes the type.
var definition = template.Must(
	template.New("definition").Funcs(template.FuncMap{"kind": kindOf, "said": said, "scsi": hasSCSI}).Parse(`<domain type="qemu">
  <name>{{html .Name}}</name>
{{- if .UUID}}
  <uuid>{{html .UUID}}</uuid>{{end}}
{{- if .Notes}}
  <description>{{html .Notes}}</description>{{end}}
  <memory unit="b">{{.Memory}}</memory>
{{- if .MemoryMin}}
  <currentMemory unit="b">{{.MemoryMin}}</currentMemory>{{end}}
  <vcpu>{{.Processors.Count}}</vcpu>
  <os{{if eq .Firmware "uefi"}} firmware="efi"{{end}}>
    <type arch="x86_64"{{if .Chipset}} machine="{{html .Chipset}}"{{end}}>hvm</type>
{{- if eq .Firmware "uefi"}}
    <firmware><feature enabled="{{if .SecureBoot}}yes{{else}}no{{end}}" name="secure-boot"/></firmware>{{end}}
{{- if .Variables}}
    <nvram>{{html .Variables}}</nvram>{{end}}
  </os>
  <features><acpi/><apic/>{{if .SecureBoot}}<smm state="on"/>{{end}}</features>
{{- with .Processors}}{{if and .Sockets .Cores .Threads}}
  <cpu><topology sockets="{{.Sockets}}" cores="{{.Cores}}" threads="{{.Threads}}"/></cpu>{{end}}{{end}}
{{- if .Clock}}
  <clock offset="{{html .Clock}}"/>{{end}}
  <devices>
{{- if scsi .}}
    ` + scsiController + `{{end}}
{{- range .Disks}}
    {{template "disk" .}}{{end}}
{{- range .Drives}}
    <disk type="{{kind .File}}" device="{{html .Device}}">{{if .File}}<source {{said .File}}="{{html .File}}"/>{{end}}<target dev="{{.Slot}}" bus="{{.Bus}}"/><readonly/></disk>{{end}}
{{- range .Networks}}
    <interface type="{{.Kind}}">{{if .MAC}}<mac address="{{html .MAC}}"/>{{end}}
{{- if eq .Kind "network"}}<source network="{{html .Network}}"/>{{else if eq .Kind "bridge"}}<source bridge="{{html .Network}}"/>{{end}}
{{- if .Model}}<model type="{{html .Model}}"/>{{end}}{{if .Boot}}<boot order="{{.Boot}}"/>{{end}}</interface>{{end}}
{{- range .Serials}}
    <serial type="pty"/>{{end}}
{{- range .Channels}}
    <channel type="unix"><target type="virtio" name="{{html .}}"/></channel>{{end}}
{{- if .TPM}}
    <tpm><backend type="emulator" version="2.0"/></tpm>{{end}}
    <video><model type="vga"/></video>
    <graphics type="vnc" port="-1" autoport="no"><listen type="none"/></graphics>
  </devices>
</domain>
{{define "disk"}}<disk type="{{kind .File}}" device="disk"><driver type="{{.Format}}"{{if .Cache}} cache="{{html .Cache}}"{{end}}/><source {{said .File}}="{{html .File}}"/>
      <target dev="{{.Slot}}" bus="{{.Bus}}"/>{{if .Boot}}<boot order="{{.Boot}}"/>{{end}}{{if .ReadOnly}}<readonly/>{{end}}
{{- if .Serial}}<serial>{{html .Serial}}</serial>{{end}}</disk>{{end}}`),
)

// buses are those that a disk of a definition can have.
var buses = []string{"ide", "sata", "scsi", "usb", "virtio", "fdc"}

// write makes a new definition. What it cannot say comes out as the nearest that it can, which whoever compares sees.
func write(m machine.Machine) ([]byte, error) {
	if m.Processors.Count < 1 || m.Memory < 1<<20 {
		return nil, fmt.Errorf("%d processors and %d bytes of memory are no machine", m.Processors.Count, m.Memory)
	}
	if kind, _, _ := strings.Cut(m.Chipset, "-"); kind != "pc" && kind != "q35" {
		m.Chipset = ""
	}
	var taken []machine.Disk
	disks, drives := m.Disks, m.Drives
	m.Disks, m.Drives, m.Networks = nil, nil, append([]machine.Network{}, m.Networks...)
	for _, d := range disks {
		d, err := driven(d)
		if err != nil {
			return nil, err
		}
		m.Disks = append(m.Disks, placed(d, taken))
		taken = append(taken, m.Disks[len(m.Disks)-1])
	}
	for _, d := range drives {
		m.Drives = append(m.Drives, placed(d, taken))
		taken = append(taken, m.Drives[len(m.Drives)-1])
	}
	for i, n := range m.Networks {
		if n.Kind != "network" && n.Kind != "bridge" {
			m.Networks[i].Kind, m.Networks[i].Network = "user", ""
		}
	}
	var b strings.Builder
	err := definition.Execute(&b, m)
	return []byte(b.String()), err
}

// placed gives a disk a bus that there is, and the next slot on it.
func placed(d machine.Disk, taken []machine.Disk) machine.Disk {
	if !slices.Contains(buses, d.Bus) {
		d.Bus = "sata"
	}
	d.Slot = machine.FreeSlot(d.Bus, taken...)
	return d
}

// driven gives a disk the driver for its format.
func driven(d machine.Disk) (machine.Disk, error) {
	driver := drivers[d.Format]
	if driver == "" || d.File == "" {
		return d, fmt.Errorf("a disk is the file of an image in a format that it knows, and %q is not", d.File+" "+d.Format)
	}
	d.Format = driver
	return d, nil
}

// Device is the element of a disk, for one that a machine gets or gives back. Without a slot it is the next that is free on its bus besides those
// that are taken.
func Device(d machine.Disk, taken []machine.Disk) ([]byte, error) {
	d, err := driven(d)
	if err != nil {
		return nil, err
	}
	if d.Slot == "" {
		d = placed(d, taken)
	}
	var b strings.Builder
	err = definition.ExecuteTemplate(&b, "disk", d)
	return []byte(b.String()), err
}
