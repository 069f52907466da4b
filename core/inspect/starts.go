package inspect

import (
	"context"
	"fmt"

	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
)

// Starts is what on a disk a computer starts from, and what it needs for that.
type Starts struct {
	// Firmware are the kinds that find something to start: FirmwareUEFI, FirmwareBIOS.
	Firmware []string `json:"firmware"`
	Loaders  []string `json:"loaders"` // for UEFI, by their paths
	Systems  []System `json:"systems"`
	// Findings are what would keep a system from starting elsewhere, and what to do about each.
	Findings []Finding `json:"findings"`
}

// Kinds of firmware.
const (
	FirmwareUEFI = "uefi"
	FirmwareBIOS = "bios"
)

// Kinds of systems.
const (
	Linux   = "linux"
	Windows = "windows"
)

// System is an operating system on a disk.
type System struct {
	Partition int    `json:"partition"`
	Volume    string `json:"volume,omitempty"` // of LVM
	Kind      string `json:"kind"`             // Linux or Windows
	Name      string `json:"name,omitempty"`
	// Root are the ways in which its boot configuration names the filesystem that it runs from.
	Root    []string `json:"root,omitempty"`
	Kernels []Kernel `json:"kernels,omitempty"`
	// Networks are the kinds of network cards that it has drivers for, of those that machines are given. Of Windows, those that were installed once: it may
	// have others at hand.
	Networks []string `json:"networks,omitempty"`
}

// LoadsFirst tells that firmware reads a kernel with all that it needs to find its disks, before it looks for them.
func (y System) LoadsFirst() bool {
	return y.Kind == Windows || slices.ContainsFunc(y.Kernels, func(k Kernel) bool { return k.Memory != "" })
}

// Kernel is one that a system can start with.
type Kernel struct {
	Version string `json:"version"`
	Memory  string `json:"memory,omitempty"` // the path of its initial memory disk
	// Buses are those of disks that it has a driver for when it starts.
	Buses []string `json:"buses"`
	// Unknown is why that is not known, empty when it is.
	Unknown string `json:"unknown,omitempty"`
}

// Finding is something that would keep a system from starting elsewhere.
type Finding struct {
	What string `json:"what"`
	Do   string `json:"do"`
}

// Buses of disks, and the drivers of Linux of which one is needed for each (names of its modules).
var busDrivers = []struct {
	bus     string
	drivers []string
}{
	{"virtio", []string{"virtio_blk"}},
	{"scsi", []string{"virtio_scsi", "mptspi", "mptsas", "sym53c8xx", "vmw_pvscsi", "megaraid_sas", "BusLogic", "hv_storvsc"}},
	{"sata", []string{"ahci"}},
	{"ide", []string{"ata_piix", "piix", "pata_acpi", "ata_generic"}},
	{"nvme", []string{"nvme"}},
}

// cardDrivers are likewise those of network cards, by their models.
var cardDrivers = []struct{ model, driver string }{
	{"virtio", "virtio_net"}, {"e1000", "e1000"}, {"e1000e", "e1000e"}, {"rtl8139", "8139cp"}, {"vmxnet3", "vmxnet3"},
}

// Bounds of what is read.
const (
	maxText    = 4 << 20 // of a configuration
	maxKernels = 20
)

// KnowsBus tells whether every kernel that a disk starts with has a driver for a bus, or why that is not known.
func (s Starts) KnowsBus(bus string) (has bool, unknown string) {
	unknown = "no system was found on it whose drivers are listed"
	for _, y := range s.Systems {
		for _, k := range y.Kernels {
			if k.Unknown != "" {
				return false, k.Unknown
			}
			if !slices.Contains(k.Buses, bus) {
				return false, ""
			}
			has, unknown = true, ""
		}
	}
	return has, unknown
}

// StartsOf looks what an image starts from, see StartsFrom.
func StartsOf(ctx context.Context, o disk.Origin, format string) (Starts, error) {
	d, err := o.Open(ctx, format)
	if err != nil {
		return Starts{}, fmt.Errorf("opening %s: %w", o.Name, err)
	}
	defer d.Close()
	return StartsFrom(ctx, d)
}

// StartsFrom looks what a disk starts from. What cannot be read says nothing.
func StartsFrom(ctx context.Context, d Disk) (Starts, error) {
	s := Starts{Firmware: []string{}, Loaders: []string{}, Systems: []System{}, Findings: []Finding{}}
	c, places, err := Mounts(d)
	if err != nil {
		return s, err
	}
	s.firmware(d, c, places)
	for _, p := range places {
		if ctx.Err() != nil {
			return s, context.Cause(ctx)
		}
		switch {
		case p.Exists("etc/os-release"):
			s.linux(ctx, p, places)
		case p.Exists("Windows/System32/config/SYSTEM"):
			s.windows(p)
		}
	}
	return s, ctx.Err()
}

// bootCode is how much of the first sector may be code (of an MBR), in bytes.
const bootCode = 440

// Fallback is the loader that firmware starts which remembers none.
const Fallback = "EFI/BOOT/BOOTX64.EFI"

// firmware finds what starts a loader.
func (s *Starts) firmware(d Disk, c Contents, places []Mounted) {
	for _, p := range places {
		if !strings.HasPrefix(strings.ToLower(p.Partition.Type), "efi") {
			continue
		}
		found := false
		for _, dir := range p.Names("EFI") {
			for _, name := range p.Names(path.Join("EFI", dir)) {
				if strings.EqualFold(path.Ext(name), ".efi") {
					s.Loaders = append(s.Loaders, path.Join("EFI", dir, name))
					found = found || strings.EqualFold(path.Join("EFI", dir, name), Fallback)
				}
			}
		}
		if len(s.Loaders) > 0 {
			s.Firmware = append(s.Firmware, FirmwareUEFI)
		}
		if len(s.Loaders) > 0 && !found {
			s.Findings = append(s.Findings, Finding{
				"No loader lies where firmware looks that remembers none (" + Fallback + ").",
				"Copy " + s.Loaders[0] + " there, or choose it in the firmware of the new machine.",
			})
		}
	}
	sector, err := read(d, 0, 512)
	if err == nil && sector[510] == 0x55 && sector[511] == 0xaa && strings.Trim(string(sector[:bootCode]), "\x00") != "" && c.Table != "" {
		s.Firmware = append(s.Firmware, FirmwareBIOS)
	}
}

// linux describes a system by its own files, and by those of its boot partition.
func (s *Starts) linux(ctx context.Context, root Mounted, places []Mounted) {
	y := System{Partition: root.Partition.Number, Volume: root.Logical, Kind: Linux, Name: release(root.Text("etc/os-release"))}
	s.mounts(root)
	for _, p := range places {
		for _, name := range p.Configurations() {
			for _, named := range roots(p.Text(name)) {
				if slices.Contains(y.Root, named) {
					continue
				}
				y.Root = append(y.Root, named)
				if strings.HasPrefix(named, "/dev/") && !strings.HasPrefix(named, "/dev/mapper/") && !strings.HasPrefix(named, "/dev/disk/") {
					s.Findings = append(s.Findings, Finding{
						fmt.Sprintf(
							"%s %s names the filesystem that the system runs from as %s, which is another one on another bus.",
							name,
							p.Where(),
							named,
						),
						"Name it by its UUID there (root=UUID=...), and in /etc/default/grub.",
					})
				}
			}
		}
	}
	modules := "lib/modules"
	if len(root.Names(modules)) == 0 {
		modules = "usr/lib/modules"
	}
	for _, version := range root.Names(modules) {
		if len(y.Kernels) < maxKernels {
			y.Kernels = append(y.Kernels, kernel(ctx, version, loaded(root.Text(path.Join(modules, version, "modules.builtin"))), places))
		}
	}
	for _, c := range cardDrivers {
		for _, k := range y.Kernels {
			if has(root.Text(path.Join(modules, k.Version, "modules.dep"))+root.Text(path.Join(modules, k.Version, "modules.builtin")), c.driver) {
				y.Networks = append(y.Networks, c.model)
				break
			}
		}
	}
	s.Systems = append(s.Systems, y)
}

// release is what a system calls itself (os-release(5)).
func release(text string) string {
	for line := range strings.Lines(text) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); ok {
			return printable(strings.Trim(value, `"'`))
		}
	}
	return ""
}

// mounts finds filesystems that are mounted by names which other buses give otherwise (fstab(5)).
func (s *Starts) mounts(root Mounted) {
	for line := range strings.Lines(root.Text("etc/fstab")) {
		words := strings.Fields(line)
		if len(words) < 2 || strings.HasPrefix(words[0], "#") {
			continue
		}
		for _, bus := range []string{"/dev/sd", "/dev/hd", "/dev/vd", "/dev/nvme", "/dev/xvd"} {
			if strings.HasPrefix(words[0], bus) {
				s.Findings = append(s.Findings, Finding{
					fmt.Sprintf(
						"etc/fstab %s mounts %s at %s: on another bus the disk is called otherwise.",
						root.Where(),
						printable(words[0]),
						printable(words[1]),
					),
					"Name it by its UUID there (UUID=...).",
				})
			}
		}
	}
}
