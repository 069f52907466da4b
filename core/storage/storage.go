// Package storage is about files in a pool: the small surface that formats, transfers and jobs need of the place where
// the files of an image lie. Each kind of storage has a room of its own below this one.
package storage

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
)

// Folder is where the files of an image lie. Names are slash-separated, relative, and never leave the folder; what
// would leave it fails with [ErrOutside]. A Folder is safe for concurrent use.
type Folder interface {
	// Open opens a regular file for reading.
	Open(name string) (File, error)
	// Create makes a new file for reading and writing, and the folders above it where they are missing. It never
	// opens what exists: then the error is fs.ErrExist.
	Create(name string) (File, error)
	// Reopen opens a file that Create made, to go on writing to it.
	Reopen(name string) (File, error)
	// Rename moves a file inside the folder and makes the folders above the new name where they are missing. It
	// never replaces what exists: then the error is fs.ErrExist.
	Rename(from, to string) error
	// Exchange swaps two files so that at every instant both names exist. Where the storage cannot do that, it fails with
	// errors.ErrUnsupported and has done nothing.
	Exchange(a, b string) error
	// Remove removes a file or an empty folder.
	Remove(name string) error
	Stat(name string) (Info, error)
	// List returns what lies directly in dir ("." for the top), sorted by name.
	List(dir string) ([]Info, error)
	// Sync returns when the names in dir are on stable storage.
	Sync(dir string) error
	Space() (Space, error)
	Close() error
}

// File is an open file of a folder, safe for concurrent use.
type File interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
	Size() (int64, error)
	Truncate(size int64) error
	// Sync returns when the content is on stable storage.
	Sync() error
}

// Overwriter is a folder of files that are never made, and whose content can be written over: disks of a computer.
type Overwriter interface {
	// Overwrite opens one for reading and writing, for the caller alone: it fails where anybody uses it.
	Overwrite(name string) (File, error)
}

// RangeFinder is a File that knows which of its ranges hold nothing.
type RangeFinder interface {
	// Range returns the end of the run that starts at off, and whether it holds data or is a hole, which reads as zeros.
	Range(off int64) (end int64, data bool, err error)
}

// Allocator is a File that can reserve room on the storage without writing it. The range then reads as zeros.
type Allocator interface {
	Allocate(off, n int64) error
}

// HoleMaker is a File that can give a range back to the storage. The range then reads as zeros.
type HoleMaker interface {
	MakeHole(off, n int64) error
}

// Wiper is a File whose content can be made zeros, with or without giving the range back to what it lies on.
type Wiper interface {
	// Wipe returns when the range reads as zeros. It fails with errors.ErrUnsupported where it cannot be given back.
	Wipe(off, n int64, back bool) error
}

// Cloner is a File that can take over the content of another one by sharing its blocks on the storage, without copying.
type Cloner interface {
	// Clone fails with errors.ErrUnsupported where the two do not lie on one filesystem that can do so.
	Clone(from File) error
}

// Mover is a Folder that can take over a file of another folder on the same storage, without copying.
type Mover interface {
	// MoveIn never replaces what exists, and fails with errors.ErrUnsupported where the two are not on one filesystem.
	MoveIn(from Folder, name, to string) error
	// Moves tells whether it can.
	Moves(from Folder, name, to string) bool
}

// Owner is a Folder that keeps an owner and a mode of files.
type Owner interface {
	// Own sets them, written as in Info; empty leaves one as it is.
	Own(name, owner, mode string) error
	// Gives tells whether a file can be given to an owner, as far as is known.
	Gives(owner string) bool
}

// Leaser is a Folder that can be told to say when somebody opens a file for writing.
type Leaser interface {
	// Lease fails with errors.ErrUnsupported where that cannot be known.
	Lease(name string) (Lease, error)
}

// Lease holds as long as nobody has opened its file for writing.
type Lease interface {
	Broken() bool
	io.Closer
}

// Linker is a Folder whose names may be links to others.
type Linker interface {
	// Link returns where a name leads, empty when it is no link.
	Link(name string) (string, error)
}

// Labeler is a Folder that keeps more about a file than owner and mode: access lists, labels of the system, and what users note (xattr(7)).
type Labeler interface {
	Labels(name string) (map[string][]byte, error)
	// SetLabels sets those that are named, and leaves others as they are.
	SetLabels(name string, labels map[string][]byte) error
}

// Lying is a Folder that knows which physical disks of its computer a file lies on, or would, by the names that they have in /dev.
type Lying interface {
	Disks(name string) ([]string, error)
}

// Grounded is a Folder that knows where it lies on its computer.
type Grounded interface {
	// NameOf returns the name of what lies at a path there, or not ok where that is outside of it.
	NameOf(at string) (name string, ok bool)
}

// Under returns the name of a path below that of a folder, or not ok where it is outside of it.
func Under(dir, at string) (name string, ok bool) {
	name, ok = strings.CutPrefix(path.Clean(at), strings.TrimSuffix(dir, "/")+"/")
	return name, ok && path.IsAbs(dir)
}

// Usage is a Folder that can tell whether another program uses a file.
type Usage interface {
	// InUse says in words by what a file is held, empty when by nothing that is known.
	InUse(name string) (why string, err error)
}

// Freshener is a Folder in front of which this computer's memory stands as a cache.
type Freshener interface {
	// Fresh returns the same folder, but with files that are read from the storage itself.
	Fresh() Folder
}

// Fresh returns f with reads coming from the storage, not from a cache on this computer.
func Fresh(f Folder) Folder {
	if c, ok := As[Freshener](f); ok {
		return c.Fresh()
	}
	return f
}

// Info tells what a name in a folder is. Sizes are in bytes.
type Info struct {
	Name     string // relative to the folder
	Size     int64
	Room     int64 // what it takes of the storage, holes not counted, or Unknown
	Modified time.Time
	Changed  time.Time // when content, owner, mode or name changed last, whatever Modified was set to; zero where the storage cannot tell
	IsDir    bool
	Regular  bool   // a plain file: not a folder, link, device or pipe
	Owner    string // as UID:GID, empty where the storage keeps none
	Mode     string // octal, likewise
	ID       string // the same for two names of one file, empty where the storage cannot tell
}

// Versioner is a Folder that can tell two files apart of which one came into being when the other was gone, though they have the same
// identity.
type Versioner interface {
	// Version has parts with VersionPart between them, any of them empty where the storage cannot tell.
	Version(name string) (string, error)
}

// WriteCounter is a Folder that can tell whether something was written to a file, since times of its files do not.
type WriteCounter interface {
	// Written changes whenever something is, and when the computer was started again.
	Written(name string) (string, error)
}

// VersionPart stands between the parts of a version.
const VersionPart = "+"

// SameVersion tells whether two versions may be those of one file: the parts that both have are the same.
func SameVersion(a, b string) bool {
	as, bs := strings.Split(a, VersionPart), strings.Split(b, VersionPart)
	for i := range min(len(as), len(bs)) {
		if as[i] != bs[i] && as[i] != "" && bs[i] != "" {
			return false
		}
	}
	return true
}

// Taken is what a file takes of the storage, as far as is known: its whole length otherwise.
func (i Info) Taken() int64 {
	if i.Room == Unknown {
		return i.Size
	}
	return i.Room
}

// Summer is a Folder whose storage can take the SHA-256 of a file by itself.
type Summer interface {
	// Sums tells whether it does.
	Sums() bool
	// SHA256 fails with errors.ErrUnsupported where it does not.
	SHA256(ctx context.Context, name string) ([sha256.Size]byte, error)
}

// Measure adds up what files take: their lengths, and the room on the storage, in bytes.
func Measure(f Folder, names []string) (length, room int64, err error) {
	for _, name := range names {
		info, err := f.Stat(name)
		if err != nil {
			return 0, 0, err
		}
		length, room = length+info.Size, room+info.Taken()
	}
	return length, room, nil
}

// RemoveAll removes name and everything in it. A link is removed, not what it leads to. What is not there is no error.
func RemoveAll(f Folder, name string) error {
	err := f.Remove(name)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	entries, listErr := f.List(name)
	if listErr != nil { // no folder: then the first error says why
		return err
	}
	for _, e := range entries {
		if err := RemoveAll(f, e.Name); err != nil {
			return err
		}
	}
	if err := f.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
