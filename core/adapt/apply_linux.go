//go:build linux && !elsewhere

package adapt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/inspect"

	"golang.org/x/sys/unix"
)

// mountedBtrfs is where the kernel shows the filesystems of btrfs that it has mounted, by their identities.
const btrfs, mountedBtrfs = "btrfs", "/sys/fs/btrfs"

// within is for how long one filesystem may be worked on.
const within = 10 * time.Minute

// Apply makes the changes on an overlay, filesystem by filesystem: the system's own drivers and tools write them, on a device that reads and writes the overlay, mounted where
// nobody else sees it. Each filesystem is checked by its own tool afterwards, and every file that was not to be changed is compared. dir is a folder of this computer for what is
// mounted. It fails for a file that is not what it was when that was found.
func Apply(ctx context.Context, o *Overlay, c Changes, dir string) error {
	_, mounts, err := inspect.Mounts(o)
	if err != nil {
		return err
	}
	for _, m := range mounts {
		var here []Change
		for _, x := range c.Files {
			if x.Partition == m.Partition.Number && x.Logical == m.Logical {
				here = append(here, x)
			}
		}
		if len(here) == 0 {
			continue
		}
		if err := apply(ctx, o, m, here, dir); err != nil {
			return fmt.Errorf("changing files %s: %w", m.Where(), err)
		}
	}
	return nil
}

func apply(ctx context.Context, o *Overlay, m inspect.Mounted, changes []Change, dir string) error {
	t, err := toolFor(m.As.Kind)
	if err != nil {
		return err
	}
	if m.As.Kind == btrfs { // of one identity, the kernel takes the copy for what it has mounted
		if _, err := os.Stat(filepath.Join(mountedBtrfs, m.As.ID)); err == nil {
			return fmt.Errorf("this computer has a filesystem of the identity %s mounted, and a copy of that cannot be changed meanwhile", m.As.ID)
		}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("it was not done within %s", within))
	defer cancel()
	length := min(m.Partition.Length, o.Size()-m.Partition.Offset)
	if m.Partition.Number == 0 {
		length = o.Size()
	}
	s := &served{overlay: o, off: m.Partition.Offset, length: length}
	if m.About().Doubt != "" { // its journal has something that is not on its place yet, which mounting puts there
		if err := s.with(ctx, dir, func() error { return t.write(ctx, s, dir, nil) }); err != nil {
			return fmt.Errorf("putting in order what its journal has: %w", err)
		}
	}
	before, err := NewOverlay(o, dir)
	if err != nil {
		return err
	}
	defer before.Close()
	s.overlay = before
	err = s.with(ctx, dir, func() error {
		if err := t.write(ctx, s, dir, changes); err != nil {
			return err
		}
		return t.check(ctx, s.path)
	})
	if err != nil {
		return err
	}
	was, err := inspect.Mount(o, m.As.Kind, s.off, s.length)
	if err != nil {
		return err
	}
	is, err := inspect.Mount(before, m.As.Kind, s.off, s.length)
	if err != nil {
		return err
	}
	if err := compare(ctx, was, is, before, s.off, changes); err != nil {
		return err
	}
	return before.Changed(func(off int64, block []byte) error {
		_, err := o.WriteAt(block, off)
		return err
	})
}

// compare looks whether each file has what it was to get, and every other one what it had.
func compare(ctx context.Context, was, is *inspect.Volume, o *Overlay, off int64, changes []Change) error {
	but := map[string]bool{}
	for _, c := range changes {
		for name := c.Path; name != "."; name = path.Dir(name) { // folders are modified by it
			but[name] = true
		}
		if c.How == Removes {
			but[c.Path+Aside] = true
			continue
		}
		now, err := fs.ReadFile(is, c.Path)
		if err != nil {
			return err
		}
		if c.How == Appends {
			old, err := fs.ReadFile(was, c.Path)
			if err != nil {
				return err
			}
			if len(now) != len(old)+len(c.content) || sum(now[:len(old)]) != sum(old) {
				return fmt.Errorf("%s is not what it was with something behind it", c.Path)
			}
			now = now[len(old):]
		}
		if sum(now) != c.SHA256 {
			return fmt.Errorf("%s did not get what was written to it", c.Path)
		}
	}
	_, err := inspect.SameBut(ctx, was, is, func(name string) bool { return but[name] },
		func(at, length int64) bool { return o.Touched(off+at, length) })
	if err != nil {
		return fmt.Errorf("what was not to be changed was: %w", err)
	}
	return nil
}

// with serves the range while do runs, on a thread of its own.
func (s *served) with(ctx context.Context, dir string, do func() error) error {
	at, err := os.MkdirTemp(dir, "served-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(at)
	return apart(ctx, dir, func() error {
		end, err := s.serve(at)
		if err != nil {
			return err
		}
		err = do()
		return errors.Join(err, end())
	})
}

// mounted mounts the range and has do work in it.
func (s *served) mounted(dir, kind, options string, do func(root *os.Root) error) (err error) {
	device, err := s.loop()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, device.Close()) }()
	at, err := os.MkdirTemp(dir, "mounted-")
	if err != nil {
		return err
	}
	defer os.Remove(at)
	if err := unix.Mount(device.Name(), at, kind, unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC|unix.MS_NOATIME, options); err != nil {
		return fmt.Errorf("mounting it as %s: %w", kind, err)
	}
	defer func() {
		if outErr := unix.Unmount(at, 0); outErr != nil {
			err = errors.Join(err, fmt.Errorf("unmounting it: %w", outErr))
		}
	}()
	root, err := os.OpenRoot(at)
	if err != nil {
		return err
	}
	err = do(root)
	return errors.Join(err, root.Close())
}

// change makes a change below the root of a mounted filesystem.
func (c Change) change(root *os.Root) error {
	name := filepath.FromSlash(c.Path)
	if c.Was != "" {
		old, err := root.ReadFile(name)
		if err != nil {
			return err
		}
		if sum(old) != c.Was {
			return fmt.Errorf("%s is not what it was when this was planned: plan it again", c.Path)
		}
	}
	switch c.How {
	case Removes:
		return root.Rename(name, name+Aside)
	case Appends:
		return c.into(root, name, os.O_WRONLY|os.O_APPEND)
	}
	if c.Was != "" { // it keeps its owner, mode, and whatever else it has
		return c.into(root, name, os.O_WRONLY|os.O_TRUNC)
	}
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return c.into(root, name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
}

func (c Change) into(root *os.Root, name string, flags int) error {
	f, err := root.OpenFile(name, flags, 0o644)
	if err != nil {
		return err
	}
	n, err := f.Write(c.content)
	if err == nil && n < len(c.content) {
		err = io.ErrShortWrite
	}
	return errors.Join(err, f.Sync(), f.Close())
}
