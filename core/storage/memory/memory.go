// Package memory keeps the files of a pool in memory, without their holes. It is for tests, of which many thousands run in a second.
package memory

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// pageSize is the unit in which a file is kept, in bytes.
const pageSize = 4 << 10

// Folder is a folder in memory. Its zero value is empty.
type Folder struct {
	mu    sync.Mutex
	files map[string]*content
	made  int // of files so far
}

// Beside returns a folder of its own that begins with the same files: what is written into those is seen in both.
func (f *Folder) Beside() *Folder {
	f.mu.Lock()
	defer f.mu.Unlock()
	return &Folder{files: maps.Clone(f.files), made: f.made}
}

// content is what is in a file.
type content struct {
	mu       sync.Mutex
	id       int
	size     int64
	pages    map[int64][]byte
	modified time.Time
}

func (f *Folder) find(name string) (string, *content, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return name, nil, err
	}
	c := f.files[name]
	if c == nil {
		return name, nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return name, c, nil
}

// Open opens a file.
func (f *Folder) Open(name string) (storage.File, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, c, err := f.find(name)
	if err != nil {
		return nil, err
	}
	return &file{c}, nil
}

// Reopen opens a file to go on writing to it.
func (f *Folder) Reopen(name string) (storage.File, error) { return f.Open(name) }

// Create makes a file.
func (f *Folder) Create(name string) (storage.File, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name, c, err := f.find(name)
	if c != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if f.files == nil {
		f.files = map[string]*content{}
	}
	f.made++
	c = &content{id: f.made, pages: map[int64][]byte{}, modified: time.Now()}
	f.files[name] = c
	return &file{c}, nil
}

// Rename gives a file another name that is free.
func (f *Folder) Rename(from, to string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	from, c, err := f.find(from)
	if err != nil {
		return err
	}
	to, other, err := f.find(to)
	if other != nil {
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	delete(f.files, from)
	f.files[to] = c
	return nil
}

// Exchange swaps two files.
func (f *Folder) Exchange(a, b string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	a, ca, errA := f.find(a)
	b, cb, errB := f.find(b)
	if err := errors.Join(errA, errB); err != nil {
		return err
	}
	f.files[a], f.files[b] = cb, ca
	return nil
}

// Remove removes a file. Folders come and go with what is in them.
func (f *Folder) Remove(name string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	name, _, err := f.find(name)
	delete(f.files, name)
	return err
}

// Stat tells what a name is.
func (f *Folder) Stat(name string) (storage.Info, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name, c, err := f.find(name)
	if err == nil {
		return c.info(name), nil
	}
	for other := range f.files {
		if strings.HasPrefix(other, name+"/") || name == "." {
			return storage.Info{Name: name, IsDir: true, ID: "memory:" + name}, nil
		}
	}
	return storage.Info{}, err
}

func (c *content) info(name string) storage.Info {
	c.mu.Lock()
	defer c.mu.Unlock()
	return storage.Info{
		Name:     name,
		Size:     c.size,
		Room:     int64(len(c.pages)) * pageSize,
		Modified: c.modified,
		Regular:  true,
		ID:       fmt.Sprint("memory:", c.id),
	}
}

// List returns what lies directly in dir.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	dir, err := storage.Clean(dir)
	if err != nil {
		return nil, err
	}
	found := map[string]storage.Info{}
	for name, c := range f.files {
		for at := name; at != "."; at = path.Dir(at) {
			if path.Dir(at) != dir {
				continue
			}
			if found[at] = (storage.Info{Name: at, IsDir: true}); at == name {
				found[at] = c.info(name)
			}
		}
	}
	return slices.SortedFunc(maps.Values(found), func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) }), nil
}

// Sync has nothing to do.
func (f *Folder) Sync(string) error { return nil }

// Space tells that there is enough.
func (f *Folder) Space() (storage.Space, error) {
	return storage.Space{Kind: "memory", Total: 1 << 40, Free: 1 << 40, Holes: true, ID: "memory"}, nil
}

// Close has nothing to do.
func (f *Folder) Close() error { return nil }

// file is an open file.
type file struct{ *content }

func (f *file) ReadAt(p []byte, off int64) (n int, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if int64(len(p)) > max(0, f.size-off) {
		p, err = p[:max(0, f.size-off)], io.EOF
	}
	for n < len(p) {
		at := off + int64(n)
		part := p[n:min(len(p), n+int(pageSize-at%pageSize))]
		clear(part)
		if page := f.pages[at/pageSize]; page != nil {
			copy(part, page[at%pageSize:])
		}
		n += len(part)
	}
	return n, err
}

func (f *file) WriteAt(p []byte, off int64) (n int, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	for n < len(p) {
		at := off + int64(n)
		page := f.pages[at/pageSize]
		if page == nil {
			page = make([]byte, pageSize)
			f.pages[at/pageSize] = page
		}
		n += copy(page[at%pageSize:], p[n:])
	}
	f.size, f.modified = max(f.size, off+int64(n)), time.Now()
	return n, nil
}

func (f *file) Truncate(size int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if size < f.size {
		for at, page := range f.pages {
			if at*pageSize >= size {
				delete(f.pages, at)
			} else if (at+1)*pageSize > size {
				clear(page[size-at*pageSize:])
			}
		}
	}
	f.size, f.modified = size, time.Now()
	return nil
}

func (f *file) Size() (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.size, nil
}

func (f *file) Sync() error  { return nil }
func (f *file) Close() error { return nil }
