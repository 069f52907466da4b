package inspect

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/inspect/hive"
)

type busService struct {
	bus      string
	services []string
}

// Buses of disks, and the drivers of Windows of which one has to be loaded when it starts (names of services).
var busServices = []busService{
	{"virtio", []string{"viostor"}},
	{"scsi", []string{"vioscsi", "LSI_SCSI", "LSI_SAS", "LSI_SAS2i", "LSI_SAS3i", "symc8xx", "pvscsi", "megasas", "storvsc"}},
	{"sata", []string{"storahci", "msahci"}},
	{"ide", []string{"intelide", "pciide"}},
	{"nvme", []string{"stornvme"}},
}

// cardServices are those of network cards, by their models.
var cardServices = []struct {
	model    string
	services []string
}{
	{"virtio", []string{"netkvm"}},
	{"e1000", []string{"E1G60", "E1000"}},
	{"e1000e", []string{"e1iexpress", "e1i65x64", "e1i68x64", "e1rexpress"}},
	{"rtl8139", []string{"RTL8139", "rtl8023"}},
	{"vmxnet3", []string{"vmxnet3ndis6", "vmxnet3"}},
}

// How a service is begun: by the loader, or never.
const (
	startByLoader = 0
	startDisabled = 4
)

// Registry is where Windows keeps its own settings.
const Registry = "Windows/System32/config/"

// windows describes a system by its registry.
func (s *Starts) windows(p Mounted) {
	y := System{Partition: p.Partition.Number, Volume: p.Logical, Kind: Windows}
	k := Kernel{Buses: []string{}}
	y.Name, k.Version = edition(p)
	begun, err := services(p)
	if err != nil {
		k.Unknown = printable(err.Error())
	}
	for _, b := range busServices {
		if slices.ContainsFunc(
			b.services,
			func(name string) bool { start, ok := begun[strings.ToLower(name)]; return ok && start == startByLoader },
		) {
			k.Buses = append(k.Buses, b.bus)
		}
	}
	for _, c := range cardServices {
		if slices.ContainsFunc(
			c.services,
			func(name string) bool { start, ok := begun[strings.ToLower(name)]; return ok && start < startDisabled },
		) {
			y.Networks = append(y.Networks, c.model)
		}
	}
	y.Kernels = []Kernel{k}
	s.Systems = append(s.Systems, y)
}

// openHive opens a file of the registry.
func (p Mounted) openHive(name string) (*hive.Hive, error) {
	f, err := p.Open(Registry + name)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	r, ok := f.(io.ReaderAt) // files of volumes are
	if !ok {
		return nil, disk.Unsupported("%s is no file", name)
	}
	h, err := hive.Open(r, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return h, nil
}

// edition is what a system calls itself, and its version.
func edition(p Mounted) (name, version string) {
	h, err := p.openHive("SOFTWARE")
	if err != nil {
		return "", ""
	}
	k, err := h.Key(`Microsoft\Windows NT\CurrentVersion`)
	if err != nil {
		return "", ""
	}
	text := func(name string) string {
		s, err := k.Text(name)
		if err != nil {
			return "" // older ones do not have all
		}
		return printable(s)
	}
	version = text("CurrentVersion")
	if major, err := k.Number("CurrentMajorVersionNumber"); err == nil { // the text has not been changed since 6.3
		version = fmt.Sprint(major, ".0")
	}
	return text("ProductName"), strings.Trim(version+"."+text("CurrentBuild"), ".")
}

// services are how those of a system are begun, by their names in small letters.
func services(p Mounted) (map[string]uint32, error) {
	h, err := p.openHive("SYSTEM")
	if err != nil {
		return nil, err
	}
	sets, err := h.Key("Select")
	if err != nil {
		return nil, err
	}
	set, err := sets.Number("Current")
	if err != nil {
		return nil, err
	}
	k, err := h.Key(fmt.Sprintf(`ControlSet%03d\Services`, set))
	if err != nil {
		return nil, err
	}
	all, err := k.Keys()
	if err != nil {
		return nil, err
	}
	begun := map[string]uint32{}
	for _, service := range all {
		start, err := service.Number("Start")
		if errors.Is(err, fs.ErrNotExist) { // settings of something that is not begun
			continue
		}
		if err != nil {
			return nil, err
		}
		// A driver that was not needed when the system was installed may be there, and put off.
		if other, err := service.Key("StartOverride"); err == nil {
			if put, err := other.Number("0"); err == nil {
				start = put
			}
		}
		begun[strings.ToLower(service.Name())] = start
	}
	if h.Unfinished {
		return begun, hive.ErrUnfinished
	}
	return begun, nil
}

// BusServices are the services of Windows of which one has to be loaded for a bus when it starts.
func BusServices(bus string) []string {
	i := slices.IndexFunc(busServices, func(b busService) bool { return b.bus == bus })
	if i < 0 {
		return nil
	}
	return busServices[i].services
}
