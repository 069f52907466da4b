// Package blocks is the disks of this computer as a folder: each is a file that is only read.
package blocks

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// Path is where disks are on a computer, and what the name of the folder ends with.
const Path = "/dev"

// Folder is the disks of a computer.
type Folder struct{ system device.System }

// Open returns those of this computer.
func Open() *Folder { return &Folder{device.Here{}} }

// find is a disk by its name here.
func (f *Folder) find(op, name string) (device.Device, error) {
	clean, err := storage.Clean(name)
	if err != nil {
		return device.Device{}, err
	}
	d, err := device.Find(f.system, clean)
	if errors.Is(err, device.ErrNone) {
		err = &fs.PathError{Op: op, Path: path.Join(Path, clean), Err: fs.ErrNotExist}
	}
	return d, err
}

// Open opens a disk. What the system remembers of its content is forgotten before, as far as it may be.
func (f *Folder) Open(name string) (storage.File, error) {
	d, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	file, err := os.OpenFile(d.Path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("%w; reading a disk takes the rights of root, or of the group disk", err)
	}
	var s unix.Stat_t
	err = unix.Fstat(int(file.Fd()), &s)
	if err == nil && s.Mode&unix.S_IFMT != unix.S_IFBLK {
		err = fmt.Errorf("%s: %w", d.Path, device.ErrNone)
	}
	if number := fmt.Sprintf("%d:%d", unix.Major(s.Rdev), unix.Minor(s.Rdev)); err == nil && number != d.Number {
		err = fmt.Errorf("%s is the device %s, and not %s", d.Path, number, d.Number)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	_ = unix.IoctlSetInt(int(file.Fd()), unix.BLKFLSBUF, 0) // it takes root
	return &disk{file, d.Size}, nil
}

// disk is an open one.
type disk struct {
	*os.File
	size int64
}

func (d *disk) Size() (int64, error) { return d.size, nil }

// What would write is refused.
func (d *disk) WriteAt([]byte, int64) (int, error) { return 0, errors.ErrUnsupported }
func (d *disk) Truncate(int64) error               { return errors.ErrUnsupported }
func (d *disk) Sync() error                        { return nil }

// Stat tells of a disk. It is the same one as long as its serial number is, where it has one.
func (f *Folder) Stat(name string) (storage.Info, error) {
	d, err := f.find("stat", name)
	return storage.Info{
		Name:    name,
		Size:    d.Size,
		Room:    d.Size,
		Regular: true,
		ID:      strings.Join([]string{"disk", d.Number, d.Serial}, " "),
	}, err
}

// List returns all disks.
func (f *Folder) List(string) (all []storage.Info, err error) {
	found, err := device.List(f.system)
	for _, d := range found {
		all = append(all, storage.Info{Name: d.Name, Size: d.Size, Room: d.Size, Regular: true})
	}
	return all, err
}

// written is which of the counts of /sys/block/NAME/stat is that of sectors written, from 0 (the kernel's Documentation/block/stat.rst).
const written = 6

// Version changes whenever something is written to the disk by the system, and when another one is at its place.
func (f *Folder) Version(name string) (string, error) {
	d, err := f.find("stat", name)
	if err != nil {
		return "", err
	}
	b, err := f.system.ReadFile("/sys/block/" + d.Name + "/stat")
	counts := strings.Fields(string(b))
	if err != nil || len(counts) <= written {
		return "", fmt.Errorf("asking whether something is written to %s: %w", d.Path, err)
	}
	seq, err := f.system.ReadFile("/sys/block/" + d.Name + "/diskseq")
	if err != nil { // an older system
		seq = nil
	}
	return strings.Join([]string{"written " + counts[written], strings.TrimSpace(string(seq))}, storage.VersionPart), nil
}

// InUse tells of those who may write to a disk, and of a program that holds it.
func (f *Folder) InUse(name string) (string, error) {
	d, err := f.find("stat", name)
	if err != nil {
		return "", err
	}
	if i := slices.IndexFunc(d.Uses, func(u device.Use) bool { return u.Writes }); i >= 0 {
		return d.Uses[i].String() + d.Uses[i].Remedy(), nil
	}
	if len(d.Uses) > 0 { // read only
		return "", nil
	}
	file, err := os.OpenFile(d.Path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_EXCL, 0)
	switch {
	case errors.Is(err, unix.EBUSY):
		return "a program holds it", nil
	case err != nil:
		return "", nil // whoever opens it is told
	}
	return "", file.Close()
}

// Disks are those that a file of the folder lies on: itself, and what is beneath.
func (f *Folder) Disks(name string) ([]string, error) {
	d, err := f.find("stat", name)
	if err != nil {
		return nil, err
	}
	return []string{d.Name}, nil
}

// Space is none: nothing is written here.
func (f *Folder) Space() (storage.Space, error) {
	return storage.Space{Free: 0, Total: 0}, nil
}

// Close has nothing to close.
func (f *Folder) Close() error { return nil }

// Sync has nothing to do.
func (f *Folder) Sync(string) error { return nil }

// What would write is refused.
func (f *Folder) Create(string) (storage.File, error) { return nil, errors.ErrUnsupported }
func (f *Folder) Reopen(string) (storage.File, error) { return nil, errors.ErrUnsupported }
func (f *Folder) Rename(string, string) error         { return errors.ErrUnsupported }
func (f *Folder) Exchange(string, string) error       { return errors.ErrUnsupported }
func (f *Folder) Remove(string) error                 { return errors.ErrUnsupported }

// Devices looks at all disks, and what is on them. One that cannot be read says why.
func (f *Folder) Devices() ([]Seen, error) {
	found, err := device.List(f.system)
	all := []Seen{}
	for _, d := range found {
		file, openErr := f.Open(d.Name)
		if openErr != nil {
			all = append(all, Seen{Device: d, InUse: len(d.Uses) > 0, Partitions: []Part{}, Problem: openErr.Error()})
			continue
		}
		all = append(all, see(d, file))
		if err := file.Close(); err != nil {
			return nil, err
		}
	}
	return all, err
}
