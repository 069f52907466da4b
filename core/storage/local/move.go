//go:build linux && !elsewhere

package local

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// MoveIn takes over a file of another folder of this computer, on the same filesystem.
func (f *Folder) MoveIn(from storage.Folder, name, to string) error {
	src, ok := storage.As[*Folder](from)
	if !ok {
		return errors.ErrUnsupported
	}
	err := rename(src, f, name, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EXDEV) {
		return fmt.Errorf("%w: %w", errors.ErrUnsupported, err)
	}
	return err
}

// Moves tells whether a file of another folder can get a name here without being copied: both lie in one mount of one filesystem.
func (f *Folder) Moves(from storage.Folder, name, to string) bool {
	src, ok := storage.As[*Folder](from)
	if !ok {
		return false
	}
	there, err := mountID(src.whole(path.Dir(name)))
	for dir := path.Dir(to); err == nil; dir = path.Dir(dir) {
		here, err := mountID(f.whole(dir))
		if errors.Is(err, fs.ErrNotExist) && dir != "." {
			continue
		}
		return err == nil && here == there
	}
	return false
}

// whole is the path of a name on this computer.
func (f *Folder) whole(name string) string { return filepath.Join(f.root.dir, storage.RawName(name)) }

// rename renames a file of one folder to a name in another, whose folders are made where they are missing.
func rename(src, dst *Folder, from, to string, flags uint) error {
	from, errFrom := storage.Clean(from)
	to, errTo := storage.Clean(to)
	if err := errors.Join(errFrom, errTo); err != nil {
		return err
	}
	if err := errors.Join(src.root.leads(from), dst.root.leads(to)); err != nil {
		return err
	}
	fromDir, err := src.root.Open(path.Dir(from))
	if err != nil {
		return plain(err)
	}
	defer fromDir.Close()
	return plain(dst.inDir(path.Dir(to), func() error {
		toDir, err := dst.root.Open(path.Dir(to))
		if err != nil {
			return err
		}
		defer toDir.Close()
		if err := unix.Renameat2(
			int(fromDir.Fd()),
			storage.RawName(path.Base(from)),
			int(toDir.Fd()),
			storage.RawName(path.Base(to)),
			flags,
		); err != nil {
			return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
		}
		return nil
	}))
}

// Own sets the owner and the mode of a file.
func (f *Folder) Own(name, owner, mode string) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	if owner != "" {
		uid, gid, err := storage.ParseOwner(owner)
		if err != nil {
			return err
		}
		if err := f.root.Chown(name, uid, gid); err != nil {
			return plain(err)
		}
	}
	if mode == "" {
		return nil
	}
	bits, err := storage.ParseMode(mode)
	if err != nil {
		return err
	}
	return plain(f.root.Chmod(name, bits))
}
