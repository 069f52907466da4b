// Package blocks is the disks of a computer as a folder: each is a file that is only read.
package blocks

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/storage"
)

// Path is where disks are on a computer, and what the name of the folder ends with.
const Path = "/dev"

// Computer is a computer that has disks.
type Computer interface {
	device.System
	// OpenDevice opens a disk for reading. Its size is that of d.
	OpenDevice(d device.Device) (storage.File, error)
	io.Closer
}

// Folder is the disks of a computer.
type Folder struct {
	computer Computer
	closed   []string // names of disks that are not read
	why      error
	heedless bool // disks are read whoever uses them
}

// Open returns those of this computer.
func Open() *Folder { return &Folder{computer: Here{}} }

// On returns those of another computer.
func On(c Computer) *Folder { return &Folder{computer: c} }

// Without has some disks not read, by their names, and says why.
func (f *Folder) Without(disks []string, why error) *Folder {
	return &Folder{computer: f.computer, closed: disks, why: why}
}

// closes tells whether a disk is one of those that are not read, or another one in front of it.
func (f *Folder) closes(d device.Device) bool {
	return slices.Contains(f.closed, d.Name) || len(f.closed) > 0 && strings.HasPrefix(d.Backing, Path+"/")
}

// find is a disk by its name here.
func (f *Folder) find(op, name string) (device.Device, error) {
	clean, err := storage.Clean(name)
	if err != nil {
		return device.Device{}, err
	}
	d, err := device.Find(f.computer, clean)
	if errors.Is(err, device.ErrNone) {
		err = &fs.PathError{Op: op, Path: path.Join(Path, clean), Err: fs.ErrNotExist}
	}
	return d, err
}

// Open opens a disk.
func (f *Folder) Open(name string) (storage.File, error) {
	d, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	if f.closes(d) {
		return nil, fmt.Errorf("%s: %w", d.Path, f.why)
	}
	file, err := f.computer.OpenDevice(d)
	if errors.Is(err, fs.ErrPermission) {
		err = fmt.Errorf("%w; reading a disk takes the rights of root, or of the group disk", err)
	}
	if err != nil {
		return nil, err
	}
	return &disk{file, f.computer, d}, nil
}

// disk is an open one.
type disk struct {
	storage.File
	computer Computer
	device   device.Device
}

func (d *disk) Size() (int64, error) { return d.device.Size, nil }

// ReadAt reads. A disk that was pulled ends early, or has errors everywhere: neither tells anything of its content.
func (d *disk) ReadAt(p []byte, off int64) (int, error) {
	n, err := d.File.ReadAt(p, off)
	short := n < len(p) && off+int64(n) < d.device.Size
	if short && (err == nil || errors.Is(err, io.EOF) || storage.Unreadable(err)) && !d.device.IsThere(d.computer) {
		return n, fmt.Errorf("%s is not there any more: %w", d.device.Path, storage.ErrLost)
	}
	return n, err
}

// What would write is refused.
func (d *disk) WriteAt([]byte, int64) (int, error) { return 0, errors.ErrUnsupported }
func (d *disk) Truncate(int64) error               { return errors.ErrUnsupported }
func (d *disk) Sync() error                        { return nil }

// id is the same for one disk only: by its serial number, or where it has none by when it came.
func id(d device.Device) string {
	if d.Serial != "" {
		return strings.Join([]string{"disk", d.Model, d.Serial}, " ")
	}
	return strings.Join([]string{"disk", d.Number, d.Seen}, " ")
}

// Stat tells of a disk.
func (f *Folder) Stat(name string) (storage.Info, error) {
	d, err := f.find("stat", name)
	return storage.Info{
		Name:    name,
		Size:    d.Size,
		Room:    d.Size,
		Regular: true,
		ID:      id(d),
	}, err
}

// List returns all disks.
func (f *Folder) List(dir string) (all []storage.Info, err error) {
	if clean, err := storage.Clean(dir); err != nil || clean != "." {
		return nil, &fs.PathError{Op: "list", Path: path.Join(Path, dir), Err: fs.ErrNotExist}
	}
	found, err := device.List(f.computer)
	for _, d := range found {
		all = append(all, storage.Info{Name: d.Name, Size: d.Size, Room: d.Size, Regular: true})
	}
	return all, err
}

// written is which of the counts of /sys/block/NAME/stat is that of sectors written, from 0 (the kernel's Documentation/block/stat.rst).
const written = 6

// Written changes whenever something is written to the disk by the system, and when another one is at its place.
func (f *Folder) Written(name string) (string, error) {
	d, err := f.find("stat", name)
	if err != nil {
		return "", err
	}
	b, err := f.computer.ReadFile("/sys/block/" + d.Name + "/stat")
	counts := strings.Fields(string(b))
	if err != nil || len(counts) <= written {
		return "", fmt.Errorf("asking whether something is written to %s: %w", d.Path, err)
	}
	return counts[written] + " " + d.Seen, nil
}

// Overwrite opens a disk to be written over, for the caller alone. It fails for one that anybody uses, and for those of other computers.
func (f *Folder) Overwrite(name string) (storage.File, error) {
	d, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	if f.closes(d) {
		return nil, fmt.Errorf("%s: %w", d.Path, f.why)
	}
	c, ok := f.computer.(interface {
		OverwriteDevice(d device.Device) (storage.File, error)
	})
	if !ok {
		return nil, fmt.Errorf("disks of other computers are not written over: %w", errors.ErrUnsupported)
	}
	file, err := c.OverwriteDevice(d)
	if errors.Is(err, fs.ErrPermission) {
		err = fmt.Errorf("%w; writing to a disk takes the rights of root, or of the group disk", err)
	}
	return file, err
}

// Smallest is the length of what can be read alone of a disk, in bytes.
func (f *Folder) Smallest(name string) (int64, error) {
	d, err := f.find("stat", name)
	return max(d.SectorSize, d.PhysicalSize), err
}

// Of tells of the computer that has the disks.
func (f *Folder) Of() device.Computer { return device.Describe(f.computer) }

// Device tells of one disk, and what is on it.
func (f *Folder) Device(name string) (Seen, error) {
	d, err := f.find("stat", name)
	if err != nil {
		return Seen{}, err
	}
	file, err := f.Open(name)
	if err != nil {
		return Seen{}, err
	}
	return see(d, file), file.Close()
}

// InUse tells of those who may write to a disk, and of a program that holds it.
func (f *Folder) InUse(name string) (string, error) {
	d, err := f.find("stat", name)
	if err != nil || f.heedless {
		return "", err
	}
	if i := slices.IndexFunc(d.Uses, func(u device.Use) bool { return u.Writes }); i >= 0 {
		return d.Uses[i].String() + d.Uses[i].Remedy(), nil
	}
	if len(d.Uses) > 0 { // read only
		return "", nil
	}
	if h, ok := f.computer.(holder); ok {
		held, err := h.Held(d)
		if held {
			return "a program holds it", err
		}
		return "", err
	}
	return "", nil
}

// holder is a computer that can tell whether a program has a disk for itself.
type holder interface {
	Held(d device.Device) (bool, error)
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

// Close closes the connection.
func (f *Folder) Close() error { return f.computer.Close() }

// Sync has nothing to do.
func (f *Folder) Sync(string) error { return nil }

// What would write is refused.
func (f *Folder) Create(string) (storage.File, error) { return nil, errors.ErrUnsupported }
func (f *Folder) Reopen(string) (storage.File, error) { return nil, errors.ErrUnsupported }
func (f *Folder) Rename(string, string) error         { return errors.ErrUnsupported }
func (f *Folder) Exchange(string, string) error       { return errors.ErrUnsupported }

// Remove removes nothing.
func (f *Folder) Remove(name string) error {
	if _, err := f.find("remove", name); err != nil {
		return err
	}
	return errors.ErrUnsupported
}

// Devices looks at all disks, and what is on them. One that cannot be read says why.
func (f *Folder) Devices() ([]Seen, error) {
	found, err := device.List(f.computer)
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
