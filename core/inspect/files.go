package inspect

import (
	"io"
	"io/fs"
	"time"
)

// named is a node with its name.
type named struct {
	name string
	info Info
}

func (n named) Name() string               { return n.name }
func (n named) Size() int64                { return n.info.Size }
func (n named) Mode() fs.FileMode          { return n.info.Mode }
func (n named) Type() fs.FileMode          { return n.info.Mode.Type() }
func (n named) ModTime() time.Time         { return n.info.Modified }
func (n named) IsDir() bool                { return n.info.Mode.IsDir() }
func (n named) Sys() any                   { return nil }
func (n named) Info() (fs.FileInfo, error) { return n, nil }
func (n named) String() string             { return fs.FormatDirEntry(n) }

// file is an open file.
type file struct {
	is named
	*io.SectionReader
}

func (f *file) Stat() (fs.FileInfo, error) { return f.is, nil }
func (f *file) Close() error               { return nil }

// folder is an open folder.
type folder struct {
	is     named
	volume *Volume
	node   uint64
	left   []fs.DirEntry
	listed bool
}

func (f *folder) Stat() (fs.FileInfo, error) { return f.is, nil }
func (f *folder) Close() error               { return nil }

func (f *folder) Read([]byte) (int, error) { return 0, wrong("read", f.is.name, fs.ErrInvalid) }

// ReadDir returns the next entries, as fs.ReadDirFile does.
func (f *folder) ReadDir(n int) ([]fs.DirEntry, error) {
	if !f.listed {
		all, err := f.volume.entries(f.node)
		if err != nil {
			return nil, wrong("readdir", f.is.name, err)
		}
		f.left, f.listed = all, true
	}
	if n > 0 && len(f.left) == 0 {
		return nil, io.EOF
	}
	if n <= 0 {
		n = len(f.left)
	}
	n = min(n, len(f.left))
	out := f.left[:n]
	f.left = f.left[n:]
	return out, nil
}
