package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/nbd"

	"golang.org/x/sys/unix"
)

// start is how far a machine came that was switched on.
type start struct {
	console []string // what it shows, a line for each step
	up      bool
	read    int64               // bytes of its disks
	locks   map[string]*os.File // by names
	asks    bool                // something has to be answered first
	writes  *writer
}

func (s *start) say(format string, args ...any) {
	s.console = append(s.console, fmt.Sprintf(format, args...))
}

// end has the guest end, and lets go of the disks.
func (s *start) end() {
	s.writes.stop()
	s.unlock(slices.Collect(maps.Keys(s.locks)))
}

// unlock lets go of files.
func (s *start) unlock(names []string) {
	for _, name := range names {
		if f := s.locks[name]; f != nil {
			_ = f.Close() // which ends the lock
			delete(s.locks, name)
		}
	}
}

// counted counts what is read of a disk.
type counted struct {
	disk.Reader
	n *int64
}

func (c counted) ReadAt(b []byte, off int64) (int, error) {
	n, err := c.Reader.ReadAt(b, off)
	*c.n += int64(n)
	return n, err
}

// boot reads the disks of a machine as it does that is switched on. An error is of the host, which does not switch it on then; what goes wrong
// behind that is on the screen.
func (h *Host) boot(ctx context.Context, m machine.Machine, r *remembered) (*start, error) {
	s := &start{}
	as := strings.ToUpper(m.Firmware)
	if m.Container {
		as = "Container"
	}
	s.say("%s, %d MiB of memory, %d processor(s)", as, m.Memory>>20, m.Processors.Count)
	for i, d := range m.Disks {
		if err := h.attach(ctx, s, d, i == 0, m); err != nil {
			s.end()
			return nil, err
		}
	}
	if r != nil {
		s.say("It goes on from what it had in memory.")
		if s.writes != nil {
			s.writes.next = r.Next
		}
	}
	if s.up && h.traits.Writes {
		h.write(s, m)
	}
	if len(m.Disks) == 0 {
		s.say("No disk to start from.")
	}
	return s, nil
}

// at is where a file lies: its folder may have to be left for what a disk stands on, that of the host not.
func (h *Host) at(file string) (dir, name string) {
	if rest, inside := strings.CutPrefix(file, h.folder+"/"); inside {
		return h.folder, rest
	}
	return filepath.Split(file)
}

// attach opens a disk, locks its files, and starts from the first one.
func (h *Host) attach(ctx context.Context, s *start, d machine.Disk, first bool, m machine.Machine) error {
	if m.Container && first && d.Format == machine.Folder {
		s.fromFolder(os.DirFS(d.File), m)
		return nil
	}
	r, err := h.open(ctx, d)
	if err != nil {
		return fmt.Errorf("the disk %s cannot be opened as %s: %w", d.Slot, d.Format, err)
	}
	defer r.Close()
	lies := "over the network"
	if d.File != "" {
		is := r.Describe()
		if is.Layout != "overlay" && !takes(h.traits.Layouts, is.Layout) {
			return fmt.Errorf("the disk %s is %s, %s, and it takes %v", d.Slot, is.Format, is.Layout, h.traits.Layouts)
		}
		dir, _ := h.at(d.File)
		for _, f := range is.Files {
			if err := s.lock(path.Join(dir, f)); err != nil {
				return fmt.Errorf("the disk %s is locked: %w", d.Slot, err)
			}
		}
		lies = is.Format
	}
	s.say("Disk %s: %s, %d MiB", d.Slot, lies, r.Size()>>20)
	if !first {
		return nil
	}
	if d.File != "" && h.traits.Writes {
		if s.writes, err = h.writerOf(ctx, d); err != nil {
			return err
		}
	}
	return s.from(counted{r, &s.read}, d, m, h.traits)
}

// served is how the address of a disk begins that is read over the open block protocol.
const served = "nbd://"

// connect reaches such a disk.
func connect(ctx context.Context, d machine.Disk) (disk.Reader, error) {
	address, name, _ := strings.Cut(strings.TrimPrefix(d.Remote, served), "/")
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	return nbd.Connect(ctx, conn, name, nil)
}

func (s *start) lock(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return errors.Join(err, f.Close())
	}
	if s.locks == nil {
		s.locks = map[string]*os.File{}
	}
	s.locks[name] = f
	return nil
}

// fromRoot starts a container from the filesystem that its root volume is.
func (s *start) fromRoot(r disk.Reader, found inspect.Contents, m machine.Machine) error {
	f := found.Filesystem
	if f == nil {
		s.say("No root: there is no filesystem that takes the whole volume.")
		return nil
	}
	v, err := inspect.Mount(r, f.Kind, 0, r.Size())
	if err != nil {
		s.say("Cannot go on: %v", err)
		return nil
	}
	s.say("Root %s %s", f.Kind, f.Label)
	s.fromFolder(v, m)
	return nil
}

// fromFolder starts a container from what its root volume has.
func (s *start) fromFolder(root fs.FS, m machine.Machine) {
	name, err := fs.ReadFile(root, "etc/hostname")
	if err != nil {
		s.say("Cannot go on: the root has no etc/hostname.")
		return
	}
	s.say("This is %s", strings.TrimSpace(string(name)))
	s.say("%s is up.", m.Name)
	s.up = true
}

// from starts from a disk: its boot code or loader, its partitions, its filesystems.
func (s *start) from(r disk.Reader, d machine.Disk, m machine.Machine, t Traits) error {
	var sector [512]byte
	if _, err := r.ReadAt(sector[:], 0); err != nil {
		return fmt.Errorf("reading the disk %s: %w", d.Slot, err)
	}
	found, err := inspect.Inside(r)
	if err != nil {
		return fmt.Errorf("looking into the disk %s: %w", d.Slot, err)
	}
	if m.Container {
		return s.fromRoot(r, found, m)
	}
	loader := loaderOf(r, found)
	switch {
	case m.Firmware == machine.UEFI && loader == "":
		s.say("No loader found: there is no EFI system partition with one.")
		return nil
	case m.Firmware != machine.UEFI && (sector[510] != 0x55 || sector[511] != 0xaa || bytes.Count(sector[:440], []byte{0}) == 440):
		s.say("No boot code found.")
		return nil
	}
	s.say("Loading from %s %s", d.Slot, loader)
	starts, err := inspect.StartsFrom(context.Background(), r)
	if err != nil {
		return fmt.Errorf("looking what the disk %s starts from: %w", d.Slot, err)
	}
	if has, unknown := starts.KnowsBus(d.Bus); !takes(t.Drivers, d.Bus) || !has && unknown == "" {
		s.say("Waiting for the root disk: no driver for the bus %s", d.Bus)
		return nil
	}
	for _, p := range found.Partitions {
		if f := p.Filesystem; f != nil {
			s.say("Partition %d: %s %s", p.Number, f.Kind, f.Label)
		}
	}
	system, err := system(r, found)
	if err != nil {
		s.say("Cannot go on: %v", err)
		return nil
	}
	s.say("%s", system)
	s.say("%s is up.", m.Name)
	s.up = true
	return nil
}
