package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"

	"bagaglio/core/device"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
)

// maxSystemFile bounds what is read of a file of the system, in bytes.
const maxSystemFile = 1 << 20

// Computer is the host itself, for whoever looks for its disks. It shares the connection, and is closed by itself.
func (f *Folder) Computer() blocks.Computer { return computer{f.host} }

type computer struct{ *host }

func (h computer) ask(do func(*client) error) error {
	c, err := h.client(context.Background())
	if err != nil {
		return err
	}
	return c.ask(func() error { return do(c) })
}

// ReadFile reads a file of the system.
func (h computer) ReadFile(name string) (b []byte, err error) {
	err = h.ask(func(c *client) error {
		file, err := c.sftp.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		b, err = io.ReadAll(io.LimitReader(file, maxSystemFile+1))
		if err == nil && len(b) > maxSystemFile {
			err = fmt.Errorf("%s has more than %d bytes", name, maxSystemFile)
		}
		return err
	})
	return b, err
}

// ReadDir returns the names in a folder.
func (h computer) ReadDir(name string) (names []string, err error) {
	c, err := h.client(context.Background())
	if err != nil {
		return nil, err
	}
	all, err := c.readDir(name)
	for _, info := range all {
		names = append(names, info.Name())
	}
	slices.Sort(names)
	return names, err
}

// Real follows links.
func (h computer) Real(name string) (real string, err error) {
	err = h.ask(func(c *client) (err error) {
		if _, err = c.sftp.Stat(name); err == nil { // a host may name what is not there
			real, err = c.sftp.RealPath(name)
		}
		return err
	})
	return real, err
}

// On is the number of the device that a file lies on, by what is mounted: the protocol does not tell it.
func (h computer) On(name string) (string, error) {
	real, err := h.Real(name)
	if err != nil {
		return "", err
	}
	return device.MountOf(h, real)
}

// forget has the system of the host forget what it remembers of a disk. While a partition is mounted, that may be older than what is on the disk: what is
// written to the partition goes past it.
const forget = `PATH=$PATH:/usr/sbin:/sbin; run=; [ "$(id -u)" = 0 ] || run="sudo -n"
$run blockdev --flushbufs "$1" || dd if="$1" iflag=nocache count=0`

// OpenDevice opens a block device for reading.
func (h computer) OpenDevice(d device.Device) (opened storage.File, err error) {
	if len(d.Uses) > 0 {
		s, err := h.Start(forget, d.Path)
		if err == nil {
			err = s.Wait()
		}
		if err != nil {
			return nil, fmt.Errorf(
				"%s is in use, and its system may remember what is not on it any more (%w): unmount it, or give the login the rights of root or sudo for blockdev",
				d.Path,
				err,
			)
		}
	}
	var by *client // where the login may not read it itself
	err = h.ask(func(c *client) error {
		info, err := c.sftp.Lstat(d.Path)
		if err == nil && info.Mode()&(fs.ModeDevice|fs.ModeCharDevice) != fs.ModeDevice {
			err = fmt.Errorf("%s: %w", d.Path, device.ErrNone)
		}
		if err != nil {
			return err
		}
		f, err := c.sftp.OpenFile(d.Path, os.O_RDONLY)
		if errors.Is(err, fs.ErrPermission) {
			by = c
			return nil
		}
		if err != nil {
			return err
		}
		whole := &file{client: c, file: f, name: d.Path, lanes: make([]lane, len(c.lanes))}
		opened = c.asItComes(whole, d.Path, d.Size, "")
		return nil
	})
	if err != nil || by == nil {
		return opened, err
	}
	whole, err := by.asRoot(d.Path, d.Size)
	if err != nil {
		return nil, err
	}
	return by.asItComes(whole, d.Path, d.Size, "sudo -n"), nil
}

// OpenVolume opens a block device by its path: to be read past what the system remembers of it, or to be read and written.
func (h computer) OpenVolume(path string, size int64, write bool) (opened storage.File, err error) {
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR
	} else if s, err := h.Start(forget, path); err != nil {
		return nil, err
	} else if err := s.Wait(); err != nil {
		return nil, fmt.Errorf("having the host forget what it remembers of %s: %w", path, err)
	}
	err = h.ask(func(c *client) error {
		f, err := c.sftp.OpenFile(path, flags)
		if err != nil {
			return err
		}
		whole := &file{client: c, file: f, name: path, flags: flags, lanes: make([]lane, len(c.lanes))}
		if opened = whole; !write {
			opened = c.asItComes(whole, path, size, "")
		}
		return nil
	})
	return opened, err
}

// Start runs a script on the host. Its input ends with the connection.
func (h computer) Start(script string, args ...string) (s blocks.Script, err error) {
	c, err := h.client(context.Background())
	if err != nil {
		return s, err
	}
	session, err := newSession(c.wires[0])
	if err != nil {
		return s, err
	}
	if s.In, err = session.StdinPipe(); err != nil {
		return s, errors.Join(err, session.Close())
	}
	if s.Out, err = session.StdoutPipe(); err != nil {
		return s, errors.Join(err, session.Close())
	}
	command := "sh -c " + quote(script) + " bagaglio"
	for _, a := range args {
		command += " " + quote(a)
	}
	s.Wait = func() error {
		err := session.Wait()
		_ = session.Close() // it has ended
		return plain(err)
	}
	return s, plain(session.Start(command))
}

// Disks are the physical disks of the host that a file lies on, or would.
func (f *Folder) Disks(name string) ([]string, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	return device.Beneath(computer{f.host}, path.Join(f.dir, storage.RawName(name)))
}
