// Package archive shows a package of a machine that is one file, a tar archive (DSP0243, 6.4; POSIX.1-1988 ustar, and pax), as a folder: its files are read where they
// lie inside of it, and nothing is unpacked.
package archive

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// Extension is that of archives which are packages of machines (DSP0243, 6.4).
const Extension = ".ova"

// most bounds how many files an archive has.
const most = 10_000

// ErrDamaged is the error for an archive that cannot be read as one.
var ErrDamaged = errors.New("the archive is damaged or incomplete")

// Claim tells whether a file is called like an archive.
func Claim(name string) bool { return strings.EqualFold(path.Ext(name), Extension) }

// Split takes a name apart that leads into an archive: its own name, and that of a file inside.
func Split(name string) (archive, inner string, ok bool) {
	parts := strings.Split(path.Clean(name), "/")
	for i, part := range parts[:len(parts)-1] {
		if Claim(part) {
			return strings.Join(parts[:i+1], "/"), strings.Join(parts[i+1:], "/"), true
		}
	}
	return "", "", false
}

// In is the folder that a name lies in: an archive where it leads into one, and the folder below otherwise, as for a folder that is called so. A file that lies in
// chunks there is one file.
func In(below storage.Folder, name string) (storage.Folder, error) {
	if at, _, ok := Split(name); ok {
		if info, err := below.Stat(at); err == nil && !info.IsDir {
			inside, err := Open(below, at)
			if err != nil {
				return nil, err
			}
			return joined(inside, name)
		}
	}
	return joined(below, name)
}

// Folder is an archive. The names of its files have that of the archive in front, as in the folder that it lies in. It is only read.
type Folder struct {
	readOnly

	below   storage.Folder
	name    string
	info    storage.Info
	entries []entry
}

// entry is a file of the archive, which lies at an offset in it.
type entry struct {
	name     string // as it is called in the folder
	off, len int64
}

// Open looks through an archive in a folder, which stays the caller's. What is no plain file in it is refused: a package has no other.
func Open(below storage.Folder, name string) (*Folder, error) {
	info, err := below.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.Regular {
		return nil, fmt.Errorf("%s is no file: %w", name, errors.ErrUnsupported)
	}
	file, err := below.Open(name)
	if err != nil {
		return nil, err
	}
	f := &Folder{below: below, name: name, info: info}
	if err := errors.Join(f.look(file, info.Size), file.Close()); err != nil {
		return nil, fmt.Errorf("the archive %s: %w", name, err)
	}
	return f, nil
}

// look finds what lies in it.
func (f *Folder) look(file io.ReaderAt, size int64) error {
	section := io.NewSectionReader(file, 0, size)
	r := tar.NewReader(section)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		if len(f.entries) == most {
			return fmt.Errorf("it has more than %d files: %w", most, errors.ErrUnsupported)
		}
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if h.Typeflag != tar.TypeReg {
			return fmt.Errorf("%w: %q in it is no plain file", ErrDamaged, h.Name)
		}
		name, err := storage.Clean(h.Name)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		at, err := section.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		if h.Size < 0 || h.Size > size-at {
			return fmt.Errorf("%w: %s is said to have %d bytes, and %d are there", ErrDamaged, name, h.Size, size-at)
		}
		e := entry{path.Join(f.name, name), at, h.Size}
		if slices.ContainsFunc(f.entries, func(o entry) bool { return o.name == e.name }) {
			return fmt.Errorf("%w: %s is in it twice", ErrDamaged, name)
		}
		f.entries = append(f.entries, e)
	}
}

func (f *Folder) find(name string) (entry, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return entry{}, err
	}
	i := slices.IndexFunc(f.entries, func(e entry) bool { return e.name == name })
	if i < 0 {
		return entry{}, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return f.entries[i], nil
}

// Open opens a file inside.
func (f *Folder) Open(name string) (storage.File, error) {
	e, err := f.find(name)
	if err != nil {
		return nil, err
	}
	file, err := f.below.Open(f.name)
	if err != nil {
		return nil, err
	}
	return &part{file: file, SectionReader: io.NewSectionReader(file, e.off, e.len)}, nil
}

// Stat tells of a file inside. What the archive is counts for it too: its times, its owner, and which file it is.
func (f *Folder) Stat(name string) (storage.Info, error) {
	e, err := f.find(name)
	if err != nil {
		return storage.Info{}, err
	}
	now, err := f.below.Stat(f.name)
	if err != nil {
		return storage.Info{}, err
	}
	if now.Size != f.info.Size || now.ID != f.info.ID {
		return storage.Info{}, fmt.Errorf("the archive %s is another one than a moment ago: %w", f.name, storage.ErrLost)
	}
	now.Name, now.Size, now.Room = e.name, e.len, e.len
	if now.ID != "" {
		now.ID = fmt.Sprintf("%s@%d", now.ID, e.off)
	}
	return now, nil
}

// List lists what lies directly in a folder inside.
func (f *Folder) List(dir string) (all []storage.Info, err error) {
	if dir, err = storage.Clean(dir); err != nil {
		return nil, err
	}
	there := dir == f.name
	for _, e := range f.entries {
		if path.Dir(e.name) == dir {
			info, err := f.Stat(e.name)
			if err != nil {
				return nil, err
			}
			all, there = append(all, info), true
		}
	}
	if !there {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: fs.ErrNotExist}
	}
	slices.SortFunc(all, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// InUse tells whether another program uses the archive.
func (f *Folder) InUse(string) (string, error) {
	if u, ok := storage.As[storage.Usage](f.below); ok {
		return u.InUse(f.name)
	}
	return "", nil
}

// Space is that of the storage that the archive lies on, which is not written to.
func (f *Folder) Space() (storage.Space, error) {
	s, err := f.below.Space()
	s.ReadOnly = true
	return s, err
}

// errReadOnly is the error for what would change it.
var errReadOnly = fmt.Errorf("an archive is only read: %w", errors.ErrUnsupported)

// readOnly is what a folder does not do that is only read. The folder that it lies in is the caller's.
type readOnly struct{}

// Sync has nothing to do.
func (readOnly) Sync(string) error { return nil }

// Close does nothing.
func (readOnly) Close() error { return nil }

// Create fails: it is only read. So do the others.
func (readOnly) Create(string) (storage.File, error) { return nil, errReadOnly }

// Reopen likewise.
func (readOnly) Reopen(string) (storage.File, error) { return nil, errReadOnly }

// Rename likewise.
func (readOnly) Rename(string, string) error { return errReadOnly }

// Exchange likewise.
func (readOnly) Exchange(string, string) error { return errReadOnly }

// Remove likewise.
func (readOnly) Remove(string) error { return errReadOnly }

// notWritten is what a file does not do that is only read.
type notWritten struct{}

func (notWritten) WriteAt([]byte, int64) (int, error) { return 0, errReadOnly }
func (notWritten) Truncate(int64) error               { return errReadOnly }
func (notWritten) Sync() error                        { return nil }

// part is a file inside.
type part struct {
	notWritten

	file storage.File
	*io.SectionReader
}

func (p *part) Close() error         { return p.file.Close() }
func (p *part) Size() (int64, error) { return p.SectionReader.Size(), nil }
