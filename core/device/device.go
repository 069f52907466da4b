// Package device tells of the physical disks of a computer, from the system's own files: /sys/block, /proc/self/mountinfo and /proc/swaps of Linux.
package device

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
)

// System is the files of a computer, by absolute names. What is not there is fs.ErrNotExist.
type System interface {
	ReadFile(name string) ([]byte, error)
	// ReadDir returns the names in a folder, sorted.
	ReadDir(name string) ([]string, error)
	// Real returns a name with all links followed.
	Real(name string) (string, error)
	// On is the number of the device that a file lies on, as MAJOR:MINOR.
	On(name string) (string, error)
}

// Device is a physical disk. Sizes are in bytes.
type Device struct {
	Name   string `json:"-"` // sda
	Path   string `json:"path"`
	Number string `json:"-"` // MAJOR:MINOR
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	// Seen is the system's count of disks when it came: another one has another, until the system starts anew. Empty for older systems.
	Seen         string `json:"-"`
	Size         int64  `json:"size"`
	SectorSize   int64  `json:"sector_size"`
	PhysicalSize int64  `json:"physical_sector_size"`
	Rotational   bool   `json:"rotational,omitempty"`
	Removable    bool   `json:"removable,omitempty"`
	ReadOnly     bool   `json:"read_only,omitempty"`
	// Health is what the system tells of it in words, empty where that is nothing.
	Health string `json:"health,omitempty"`
	// Backing is the file of one that is none of hardware.
	Backing string `json:"backing,omitempty"`
	// Uses are who uses it or a partition of it.
	Uses []Use `json:"uses"`
}

// Use is how a disk or partition is used.
type Use struct {
	Partition int    `json:"partition,omitempty"` // 0 for the whole disk
	By        string `json:"by"`                  // mounted, swap, or held
	Where     string `json:"where"`               // the mount point, or what holds it: an LVM volume, a RAID, an encrypted mapping
	// Writes tells that what is on it may change.
	Writes bool `json:"writes,omitempty"`
}

func (u Use) String() string {
	on := "it"
	if u.Partition > 0 {
		on = fmt.Sprintf("its partition %d", u.Partition)
	}
	switch u.By {
	case Mounted:
		how := "read only"
		if u.Writes {
			how = "for writing"
		}
		return fmt.Sprintf("%s is mounted at %s, %s", on, u.Where, how)
	case Swap:
		return on + " is used to swap memory"
	}
	return fmt.Sprintf("%s is held by %s", on, u.Where)
}

// Remedy says what to do so that nothing is written to the disk.
func (u Use) Remedy() string {
	switch u.By {
	case Mounted:
		return fmt.Sprintf(" (umount %[1]s, or mount -o remount,ro %[1]s)", u.Where)
	case Swap:
		return fmt.Sprintf(" (swapoff %s)", u.Where)
	}
	return ""
}

// Ways of use.
const (
	Mounted = "mounted"
	Swap    = "swap"
	Held    = "held"
)

// Facts of /sys/block (the kernel's documentation of it): sizes there are in sectors of 512 bytes, whatever those of the disk are.
const (
	blocks     = "/sys/block"
	sectorSize = 512
)

// none are names of block devices that are no disks.
var none = []string{"ram", "zram", "dm-", "md", "sr", "fd", "nbd", "mtdblock"}

// ErrNone is the error for a name that is none of a disk.
var ErrNone = errors.New("it is no disk of this computer")

// List returns all disks, by name.
func List(s System) ([]Device, error) {
	names, err := s.ReadDir(blocks)
	if err != nil {
		return nil, fmt.Errorf("looking for disks: %w", err)
	}
	all := []Device{}
	mounts, swaps, err := mounted(s)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if slices.ContainsFunc(none, func(p string) bool { return strings.HasPrefix(name, p) }) {
			continue
		}
		d, err := read(s, name, mounts, swaps)
		if errors.Is(err, fs.ErrNotExist) { // it went meanwhile
			continue
		}
		if err != nil {
			return nil, err
		}
		if d.Size > 0 {
			all = append(all, d)
		}
	}
	return all, nil
}

// Find returns a disk by the name that it has in /dev.
func Find(s System, name string) (Device, error) {
	if name == "" || strings.ContainsAny(name, "/\x00") ||
		slices.ContainsFunc(none, func(p string) bool { return strings.HasPrefix(name, p) }) {
		return Device{}, fmt.Errorf("%s: %w", name, ErrNone)
	}
	mounts, swaps, err := mounted(s)
	if err != nil {
		return Device{}, err
	}
	d, err := read(s, name, mounts, swaps)
	if errors.Is(err, fs.ErrNotExist) || err == nil && d.Size == 0 {
		err = fmt.Errorf("%s: %w: %w", name, ErrNone, fs.ErrNotExist)
	}
	return d, err
}

func word(s System, name string) string {
	b, err := s.ReadFile(name)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(strings.Trim(string(b), "\x00"))
}

// model is what is said of maker and model. A maker that is only a number is of no use to people.
func model(vendor, name string) string {
	if strings.HasPrefix(vendor, "0x") {
		vendor = ""
	}
	return strings.Join(strings.Fields(vendor+" "+name), " ")
}

func number(s System, name string) int64 {
	n, err := strconv.ParseInt(word(s, name), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// read reads what the system tells of a disk.
func read(s System, name string, mounts []mount, swaps []string) (Device, error) {
	at := path.Join(blocks, name)
	if _, err := s.ReadFile(at + "/dev"); err != nil {
		return Device{}, err
	}
	d := Device{
		Name:         name,
		Path:         "/dev/" + name,
		Number:       word(s, at+"/dev"),
		Model:        model(word(s, at+"/device/vendor"), word(s, at+"/device/model")),
		Size:         number(s, at+"/size") * sectorSize,
		SectorSize:   number(s, at+"/queue/logical_block_size"),
		PhysicalSize: number(s, at+"/queue/physical_block_size"),
		Rotational:   number(s, at+"/queue/rotational") == 1,
		Removable:    number(s, at+"/removable") == 1,
		ReadOnly:     number(s, at+"/ro") == 1,
		Backing:      word(s, at+"/loop/backing_file"),
		Seen:         word(s, at+"/diskseq"),
		Uses:         []Use{},
	}
	for _, file := range []string{"/serial", "/device/serial"} {
		if d.Serial = word(s, at+file); d.Serial != "" {
			break
		}
	}
	if page, err := s.ReadFile(at + "/device/vpd_pg80"); err == nil && len(page) > 4 && d.Serial == "" { // SPC-4, 7.8.15
		d.Serial = strings.TrimSpace(strings.Trim(string(page[4:]), "\x00"))
	}
	if n, err := strconv.ParseInt(word(s, at+"/device/ioerr_cnt"), 0, 64); err == nil && n > 0 {
		d.Health = fmt.Sprintf("%d errors since it was connected", n)
	}
	d.uses(s, at, 0, d.Number, d.Path, mounts, swaps)
	inside, err := s.ReadDir(at)
	if err != nil {
		return d, err
	}
	for _, part := range inside {
		n := number(s, at+"/"+part+"/partition")
		if n > 0 {
			d.uses(s, at+"/"+part, int(n), word(s, at+"/"+part+"/dev"), "/dev/"+part, mounts, swaps)
		}
	}
	return d, nil
}

// IsThere tells whether a disk that was looked at is still there: no other one has its name, and it has its size.
func (d Device) IsThere(s System) bool {
	at := path.Join(blocks, d.Name)
	return word(s, at+"/dev") == d.Number && word(s, at+"/diskseq") == d.Seen && number(s, at+"/size")*sectorSize == d.Size
}

// uses adds those of the disk or a partition of it, which lies in /sys at a folder.
func (d *Device) uses(s System, at string, partition int, number, dev string, mounts []mount, swaps []string) {
	for _, m := range mounts {
		if m.number == number || m.source == dev {
			d.Uses = append(d.Uses, Use{Partition: partition, By: Mounted, Where: m.at, Writes: m.writes})
		}
	}
	if slices.Contains(swaps, dev) {
		d.Uses = append(d.Uses, Use{Partition: partition, By: Swap, Where: dev, Writes: true})
	}
	holders, err := s.ReadDir(at + "/holders")
	if err != nil {
		return // there are none
	}
	for _, h := range holders {
		who := h
		if name := word(s, "/sys/block/"+h+"/dm/name"); name != "" {
			who = name
		}
		d.Uses = append(d.Uses, Use{Partition: partition, By: Held, Where: who, Writes: true})
	}
}

// mount is a line of mountinfo (proc_pid_mountinfo(5)).
type mount struct {
	number, at, source string
	writes             bool
	options            string // of the filesystem
}

// mounted returns what is mounted, and what is swapped to.
func mounted(s System) (all []mount, swaps []string, err error) {
	b, err := s.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, nil, fmt.Errorf("looking what is mounted: %w", err)
	}
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		i := slices.Index(f, "-")
		if i < 6 || len(f) < i+4 {
			continue
		}
		own, super := strings.Split(f[5], ","), strings.Split(f[i+3], ",")
		all = append(all, mount{
			number: f[2], at: unescaped(f[4]), source: unescaped(f[i+2]), options: f[i+3],
			writes: slices.Contains(own, "rw") && slices.Contains(super, "rw"),
		})
	}
	if b, err = s.ReadFile("/proc/swaps"); err != nil { // a system without any
		return all, nil, nil
	}
	for line := range strings.Lines(string(b)) {
		if f := strings.Fields(line); len(f) > 0 && strings.HasPrefix(f[0], "/") {
			swaps = append(swaps, unescaped(f[0]))
		}
	}
	return all, swaps, nil
}

// unescaped puts back what is written as \NNN, octal.
func unescaped(s string) string {
	for _, c := range []string{" ", "\t", "\n", "\\"} {
		s = strings.ReplaceAll(s, fmt.Sprintf(`\%03o`, c[0]), c)
	}
	return s
}
