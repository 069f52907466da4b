//go:build linux && !elsewhere

// Package local keeps the files of a pool in a folder of this computer. Nothing leaves the folder: it is opened as an
// os.Root, so that a symbolic link or a ".." in a name cannot lead out of it. A folder that nothing is done with keeps no drive from being
// unmounted; when something else is mounted there then, that is the folder.
package local

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// Folder is a folder of this computer. Make one with [Open].
type Folder struct {
	root  *root
	fresh bool
}

// Open opens the folder at dir, which must exist.
func Open(dir string) (*Folder, error) { return OpenApart(dir, nil) }

// OpenApart opens the folder at dir, which must exist, lie apart from one that is kept, and lead to nothing in that.
func OpenApart(dir string, kept *Kept) (*Folder, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := openRoot(dir, kept)
	if err != nil {
		return nil, err
	}
	return &Folder{root: root}, nil
}

// Close closes the folder; open files stay open.
func (f *Folder) Close() error { return f.root.Close() }

// NameOf is the name of a path of this computer.
func (f *Folder) NameOf(at string) (string, bool) { return storage.Under(f.root.dir, at) }

// Fresh returns the same folder with files that are read from the storage, not from the page cache.
func (f *Folder) Fresh() storage.Folder { return &Folder{root: f.root, fresh: true} }

// plain translates errors of os.Root into those of storage, and leaves others as they are.
func plain(err error) error {
	var of *fs.PathError
	if errors.As(err, &of) { // which names the file as the system does
		err = &fs.PathError{Op: of.Op, Path: storage.ShownName(of.Path), Err: of.Err}
	}
	if err != nil && strings.Contains(err.Error(), "path escapes from parent") {
		return fmt.Errorf("%w: %w", storage.ErrOutside, err)
	}
	return err
}

// Open opens a regular file for reading.
func (f *Folder) Open(name string) (storage.File, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	// Without O_NONBLOCK a pipe that lies in the folder would stop us here for ever.
	file, err := f.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, plain(err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is a %s, %w: name the file of an image", name, storage.KindOf(info.Mode()), storage.ErrNotFile)
	}
	if err == nil && f.fresh {
		err = dropCache(file, 0, 0)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return &readFile{File: file}, nil
}

// Create makes a new file, and the folders above it where they are missing.
func (f *Folder) Create(name string) (storage.File, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	var file *os.File
	err = f.inDir(path.Dir(name), func() (err error) {
		file, err = f.root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
		return err
	})
	if err != nil {
		return nil, plain(err)
	}
	return newWriteFile(file), nil
}

// inDir does something in a folder that is made where it is missing: again where somebody who tidies up removes it in between, as long as
// it is empty.
func (f *Folder) inDir(dir string, do func() error) error {
	const tries = 100
	perm := os.FileMode(0o755)
	if strings.HasPrefix(dir, ".") { // a hidden folder is for whoever makes it
		perm = 0o700
	}
	for i := 1; ; i++ {
		err := f.root.MkdirAll(dir, perm)
		again := errors.Is(err, fs.ErrExist) // it was there, and was gone when it was looked at
		if err == nil {
			err = do()
		}
		if !again && !errors.Is(err, fs.ErrNotExist) || i == tries {
			return err
		}
	}
}

// Reopen opens a file that Create made, to go on writing to it.
func (f *Folder) Reopen(name string) (storage.File, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(name, os.O_RDWR|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, plain(err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is a %s, %w", name, storage.KindOf(info.Mode()), storage.ErrNotFile)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return newWriteFile(file), nil
}

// Rename moves a file inside the folder and never replaces what exists.
func (f *Folder) Rename(from, to string) error {
	err := f.rename(from, to, unix.RENAME_NOREPLACE)
	if !errors.Is(err, unix.EINVAL) {
		return err
	}
	// The filesystem does not know how to rename without replacing: look first, then rename.
	if _, err := f.root.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(err, &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist})
	}
	return plain(f.root.Rename(from, to))
}

// Exchange swaps two files so that at every instant both names exist.
func (f *Folder) Exchange(a, b string) error {
	err := f.rename(a, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) {
		return fmt.Errorf("swapping two files on this filesystem: %w", errors.ErrUnsupported)
	}
	return err
}

func (f *Folder) rename(from, to string, flags uint) error { return rename(f, f, from, to, flags) }

// Remove removes a file or an empty folder.
func (f *Folder) Remove(name string) error { return plain(f.root.Remove(name)) }

// Stat tells what name is. A symbolic link that stays inside the folder is followed.
func (f *Folder) Stat(name string) (storage.Info, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return storage.Info{}, err
	}
	info, err := f.root.Stat(name)
	if err != nil {
		return storage.Info{}, plain(err)
	}
	return toInfo(name, info), nil
}

func toInfo(name string, info fs.FileInfo) storage.Info {
	out := storage.Info{Name: name, Size: info.Size(), Modified: info.ModTime(), IsDir: info.IsDir(), Regular: info.Mode().IsRegular()}
	if st, ok := info.Sys().(*syscallStat); ok {
		out.Room = st.Blocks * 512 // stat(2): always counted in units of 512 bytes
		out.Changed = time.Unix(st.Ctim.Unix())
		out.ID = fmt.Sprintf("%d:%d", st.Dev, st.Ino)
		out.Owner, out.Mode = fmt.Sprintf("%d:%d", st.Uid, st.Gid), storage.FormatMode(info.Mode())
	}
	return out
}

// List returns what lies directly in dir, sorted by name. Names that no other call would accept are left out.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	d, err := f.root.Open(dir)
	if err != nil {
		return nil, plain(err)
	}
	defer d.Close()
	entries, err := d.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	var infos []storage.Info
	for _, e := range entries {
		name, err := storage.Clean(path.Join(dir, storage.ShownName(e.Name())))
		if err != nil {
			continue
		}
		info, err := e.Info()
		if err != nil { // removed in the meantime
			continue
		}
		infos = append(infos, toInfo(name, info))
	}
	slices.SortFunc(infos, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return infos, nil
}

// Sync returns when the names in dir are on stable storage.
func (f *Folder) Sync(dir string) error {
	d, err := f.root.Open(dir)
	if err != nil {
		return plain(err)
	}
	defer d.Close()
	return d.Sync()
}
