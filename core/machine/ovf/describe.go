package ovf

import (
	"encoding/xml"
	"fmt"
	"math"
	"slices"
	"strings"

	"bagaglio/core/machine"
)

// Types of resources (CIM_ResourceAllocationSettingData, as DSP0243, 8.3 and 8.4 use them).
const (
	processor = 3
	memory    = 4
	ideBus    = 5
	scsiBus   = 6
	ethernet  = 10
	floppy    = 14
	optical   = 15
	hardDisk  = 17
	otherBus  = 20 // of which one that is called AHCI is sata
	usbBus    = 23
)

// system is what is read of the first virtual system.
type system struct {
	Disks []struct {
		ID       string `xml:"diskId,attr"`
		FileRef  string `xml:"fileRef,attr"`
		Capacity string `xml:"capacity,attr"`
		Format   string `xml:"format,attr"`
	} `xml:"DiskSection>Disk"`
	Systems []struct {
		Annotation string `xml:"AnnotationSection>Annotation"`
		Guest      struct {
			Description string `xml:"Description"`
		} `xml:"OperatingSystemSection"`
		Items []item `xml:"VirtualHardwareSection>Item"`
		// Since 2.0 disks and cards have elements of their own (8.3).
		Storage []item `xml:"VirtualHardwareSection>StorageItem"`
		Cards   []item `xml:"VirtualHardwareSection>EthernetPortItem"`
		Config  []struct {
			Key   string `xml:"key,attr"`
			Value string `xml:"value,attr"`
		} `xml:"VirtualHardwareSection>Config"`
	} `xml:"VirtualSystem"`
}

// item is one of the hardware (8.1).
type item struct {
	Type       int    `xml:"ResourceType"`
	SubType    string `xml:"ResourceSubType"`
	ID         string `xml:"InstanceID"`
	Parent     string `xml:"Parent"`
	Units      string `xml:"AllocationUnits"`
	Quantity   int64  `xml:"VirtualQuantity"`
	Cores      int    `xml:"CoresPerSocket"`
	Resource   string `xml:"HostResource"`
	Connection string `xml:"Connection"`
	Address    string `xml:"Address"`
}

func describe(text []byte) (machine.Machine, error) {
	var e envelope
	var x system
	text, _, _, err := Choose(text, "")
	if err != nil {
		return machine.Machine{}, err
	}
	d, err := read(text)
	if err != nil {
		return machine.Machine{}, err
	}
	for _, into := range []any{&e, &x} {
		if err := xml.Unmarshal(text, into); err != nil {
			return machine.Machine{}, fmt.Errorf("%w: %w", machine.ErrOther, err)
		}
	}
	m := machine.Machine{Name: d.Name, Firmware: machine.BIOS, Processors: machine.Processors{Count: 1}, Disks: []machine.Disk{}}
	if len(x.Systems) == 0 {
		return m, nil
	}
	first := x.Systems[0]
	m.Notes, m.Guest = strings.TrimSpace(first.Annotation), machine.Family(first.Guest.Description)
	for _, c := range first.Config {
		if c.Key == "firmware" && c.Value == "efi" {
			m.Firmware = machine.UEFI
		}
	}
	files := e.names()
	buses := map[string]string{}
	items := slices.Concat(first.Items, first.Storage, first.Cards)
	for _, i := range items {
		buses[i.ID] = i.bus()
	}
	for _, i := range items {
		switch i.Type {
		case processor:
			m.Processors.Count = int(min(max(1, i.Quantity), 1<<16))
			if i.Cores > 0 && m.Processors.Count%i.Cores == 0 {
				m.Processors.Sockets, m.Processors.Cores, m.Processors.Threads = m.Processors.Count/i.Cores, i.Cores, 1
			}
		case memory:
			if m.Memory, err = i.bytes(); err != nil {
				return m, err
			}
		case ethernet:
			m.Networks = append(
				m.Networks,
				machine.Network{Kind: "network", Network: i.Connection, MAC: i.Address, Model: strings.ToLower(i.SubType)},
			)
		case optical:
			m.Drives = append(m.Drives, machine.Disk{Device: "cdrom", Bus: buses[i.Parent]})
		case floppy:
			m.Drives = append(m.Drives, machine.Disk{Device: "floppy", Bus: "fdc"})
		case hardDisk:
			for _, disk := range x.Disks {
				if file := files[disk.FileRef]; file != "" && strings.HasSuffix(i.Resource, "disk/"+disk.ID) {
					m.Disks = append(m.Disks, machine.Disk{File: file, Format: format(disk.Format), Bus: buses[i.Parent]})
				}
			}
		}
	}
	return m.Shown(), nil
}

// bus is what a controller is one of, empty for anything else.
func (i item) bus() string {
	switch {
	case i.Type == ideBus:
		return "ide"
	case i.Type == scsiBus && strings.HasPrefix(strings.ToLower(i.SubType), "virtio"):
		return "virtio"
	case i.Type == scsiBus:
		return "scsi"
	case i.Type == otherBus && strings.Contains(strings.ToLower(i.SubType), "nvme"):
		return "nvme"
	case i.Type == otherBus:
		return "sata"
	case i.Type == usbBus:
		return "usb"
	}
	return ""
}

// format is that of an image by the URI of its specification, which its maker chose (9.1).
func format(uri string) string {
	uri = strings.ToLower(uri)
	for _, name := range []string{"vmdk", "vhdx", "vhd", "vdi", "qcow2", "raw"} {
		if strings.Contains(uri, name) {
			return name
		}
	}
	return ""
}

// bytes is a quantity by its unit, which is "byte * 2^20" (DSP0004, C.1), or MegaBytes in old versions.
func (i item) bytes() (int64, error) {
	units := strings.ToLower(strings.ReplaceAll(i.Units, " ", ""))
	shift := 20
	switch {
	case units == "byte" || units == "bytes":
		shift = 0
	case strings.HasPrefix(units, "kilo"):
		shift = 10
	case strings.HasPrefix(units, "giga"):
		shift = 30
	case strings.HasPrefix(units, "byte*2^"):
		if _, err := fmt.Sscanf(units, "byte*2^%d", &shift); err != nil || shift < 0 || shift > 40 {
			return 0, fmt.Errorf("%w: its memory is counted in %q", machine.ErrOther, i.Units)
		}
	}
	if i.Quantity < 0 || i.Quantity > math.MaxInt64>>shift {
		return 0, fmt.Errorf("%w: its memory of %d %q makes no sense", machine.ErrOther, i.Quantity, i.Units)
	}
	return i.Quantity << shift, nil
}
