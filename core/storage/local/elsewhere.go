//go:build !linux || elsewhere

// Package local keeps the files of a pool in a folder of this computer. On systems other than Linux, where only the client runs, it does what a client
// needs: nothing leaves the folder, and nothing is replaced. Such files have no holes, no owners, and nobody who uses them is seen.
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

	"bagaglio/core/storage"
)

// Folder is a folder of this computer. Make one with [Open].
type Folder struct {
	dir  string
	root *os.Root
}

// Open opens the folder at dir, which must exist.
func Open(dir string) (*Folder, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("opening folder %s: %w", dir, err)
	}
	return &Folder{dir, root}, nil
}

// Close closes the folder; open files stay open.
func (f *Folder) Close() error { return f.root.Close() }

// NameOf is the name of a path of this computer.
func (f *Folder) NameOf(at string) (string, bool) {
	return storage.Under(filepath.ToSlash(f.dir), filepath.ToSlash(at))
}

// Caveats say that a proof may have read what this computer still had in memory.
func (f *Folder) Caveats() []string {
	return []string{
		"on this system what was written may be read back from the computer's memory, and not from the storage",
		"names are not synced: one that was given may be lost when the power fails soon after",
	}
}

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

// file is an open one.
type file struct{ *os.File }

func (f file) Size() (int64, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func (f *Folder) open(name string, flags int) (storage.File, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	opened, err := f.root.OpenFile(storage.RawName(name), flags, 0o644)
	if err != nil {
		return nil, plain(err)
	}
	info, err := opened.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is a %s, %w: name the file of an image", name, storage.KindOf(info.Mode()), storage.ErrNotFile)
	}
	if err != nil {
		return nil, errors.Join(err, opened.Close())
	}
	return file{opened}, nil
}

// Open opens a regular file for reading.
func (f *Folder) Open(name string) (storage.File, error) {
	clean, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	info, err := f.root.Stat(storage.RawName(clean)) // a pipe would stop us here for ever
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is a %s, %w: name the file of an image", name, storage.KindOf(info.Mode()), storage.ErrNotFile)
	}
	if err != nil {
		return nil, plain(err)
	}
	return f.open(name, os.O_RDONLY)
}

// Create makes a new file, and the folders above it where they are missing.
func (f *Folder) Create(name string) (storage.File, error) {
	const tries = 1000 // where somebody who tidies up removes the folder in between, as long as it is empty
	for i := 1; ; i++ {
		var made storage.File
		err := f.makeAbove(name)
		again := errors.Is(err, fs.ErrExist) // it was there, and was gone when it was looked at
		if err == nil {
			made, err = f.open(name, os.O_RDWR|os.O_CREATE|os.O_EXCL)
		}
		if !again && !errors.Is(err, fs.ErrNotExist) || i == tries {
			return made, err
		}
	}
}

// Reopen opens a file that Create made, to go on writing to it.
func (f *Folder) Reopen(name string) (storage.File, error) { return f.open(name, os.O_RDWR) }

func (f *Folder) makeAbove(name string) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	return plain(f.root.MkdirAll(storage.RawName(path.Dir(name)), 0o755))
}

// Rename moves a file inside the folder and never replaces what exists: it looks first.
func (f *Folder) Rename(from, to string) error {
	from, err := storage.Clean(from)
	if err == nil {
		to, err = storage.Clean(to)
	}
	if err == nil {
		err = f.makeAbove(to)
	}
	if err != nil {
		return err
	}
	if _, err := f.root.Lstat(storage.RawName(to)); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(plain(err), &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist})
	}
	return plain(f.root.Rename(storage.RawName(from), storage.RawName(to)))
}

// Exchange is not known here.
func (f *Folder) Exchange(a, b string) error {
	return fmt.Errorf("swapping %s and %s on this system: %w", storage.ShownName(a), storage.ShownName(b), errors.ErrUnsupported)
}

// Remove removes a file or an empty folder.
func (f *Folder) Remove(name string) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	return plain(f.root.Remove(storage.RawName(name)))
}

// Stat tells what name is. A symbolic link that stays inside the folder is followed.
func (f *Folder) Stat(name string) (storage.Info, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return storage.Info{}, err
	}
	info, err := f.root.Stat(storage.RawName(name))
	if err != nil {
		return storage.Info{}, plain(err)
	}
	return toInfo(name, info), nil
}

func toInfo(name string, info fs.FileInfo) storage.Info {
	return storage.Info{
		Name: name, Size: info.Size(), Room: storage.Unknown, Modified: info.ModTime(), IsDir: info.IsDir(), Regular: info.Mode().IsRegular(),
	}
}

// List returns what lies directly in dir, sorted by name. Names that no other call would accept are left out.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	d, err := f.root.Open(storage.RawName(dir))
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
		if info, err := e.Info(); err == nil { // otherwise it was removed in the meantime
			infos = append(infos, toInfo(name, info))
		}
	}
	slices.SortFunc(infos, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return infos, nil
}

// Sync has nothing to do: these systems do not sync the names in a folder, or not when they are asked to.
func (f *Folder) Sync(dir string) error {
	_, err := f.Stat(dir)
	return err
}

// Space is not told.
func (f *Folder) Space() (storage.Space, error) {
	return storage.Space{Kind: "unknown", Total: storage.Unknown, Free: storage.Unknown}, nil
}

// Discard makes a range of a file zeros.
func Discard(f *os.File, off, n int64) error {
	zeros := make([]byte, 1<<20)
	for n > 0 {
		length := min(n, int64(len(zeros)))
		if _, err := f.WriteAt(zeros[:length], off); err != nil {
			return err
		}
		off, n = off+length, n-length
	}
	return nil
}

// WriteFile puts a small file that only its owner can read in the place of the one of that name.
func WriteFile(name string, content []byte) error {
	next := name + ".new"
	if err := os.WriteFile(next, content, 0o600); err != nil {
		return err
	}
	return os.Rename(next, name)
}

// Canonical is one name for a file of this computer.
func Canonical(file string) string {
	if real, err := filepath.EvalSymlinks(file); err == nil {
		return real
	}
	return filepath.Clean(file)
}
