// Package faulty has folders for tests that fail as real storage does.
package faulty

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// Folder is a folder in memory that notes what is done in it, so that power can be cut behind any of its operations.
type Folder struct {
	// simple is for storage that cannot swap two files, and gives none an identity.
	simple bool

	mu    sync.Mutex
	ops   []op
	names map[string]int // of files, by their place in files
	files [][]byte
}

// New returns an empty folder.
func New(simple bool) *Folder { return &Folder{simple: simple, names: map[string]int{}} }

type kind int

const (
	create kind = iota
	write
	truncate
	sync_
	rename
	exchange
	remove
	syncDir
	note
)

// op is one operation; which fields hold depends on its kind.
type op struct {
	kind     kind
	file     int
	name, to string
	data     []byte
	off      int64 // or a size
	note     any
}

// Note puts something into the order of operations that is on stable storage elsewhere from then on.
func (f *Folder) Note(v any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ops = append(f.ops, op{kind: note, note: v})
}

// Len is how many operations there were.
func (f *Folder) Len() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.ops)
}

// Cut returns the folder as it may be found when power was cut behind the first n operations, and the last note before: of what was not
// synced, any part is there or not.
func (f *Folder) Cut(n int, r *rand.Rand) (*Folder, any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	done := f.ops[:n]
	out := New(f.simple)
	out.files = make([][]byte, len(f.files))
	for i, now := range f.files {
		out.files[i] = make([]byte, 0, cap(now)) // it was hardly ever longer
	}
	var last any
	for i, o := range done {
		switch o.kind {
		case note:
			last = o.note
		case sync_, syncDir:
		case write, truncate:
			synced := slices.ContainsFunc(done[i:], func(later op) bool { return later.kind == sync_ && later.file == o.file })
			if synced || r.IntN(2) == 0 {
				out.files[o.file] = o.apply(out.files[o.file])
			} else if o.kind == write && len(o.data) > sector && r.IntN(2) == 0 { // torn
				o.data = o.data[:sector*(1+r.IntN(len(o.data)/sector))]
				out.files[o.file] = o.apply(out.files[o.file])
			}
		default:
			synced := func(dir string) bool {
				return slices.ContainsFunc(done[i:], func(later op) bool { return later.kind == syncDir && later.name == dir })
			}
			// What is new under a name is there for good when its folder was synced; what goes from elsewhere, when that was too, but
			// for staging, where it does not matter whether something stays behind.
			durable := synced(path.Dir(o.name))
			if o.kind == rename || o.kind == exchange {
				durable = synced(path.Dir(o.to)) && (durable || strings.Contains(o.name, "/staging/"))
			}
			if durable || r.IntN(2) == 0 {
				o.move(out.names)
			}
		}
	}
	return out, last
}

// sector is what storage writes whole or not at all.
const sector = 512

// apply does an operation on the content of a file.
func (o op) apply(b []byte) []byte {
	if o.kind == truncate {
		return resize(b, o.off)
	}
	b = resize(b, max(int64(len(b)), o.off+int64(len(o.data))))
	copy(b[o.off:], o.data)
	return b
}

func resize(b []byte, n int64) []byte {
	if n <= int64(len(b)) {
		clear(b[n:])
		return b[:n]
	}
	if n <= int64(cap(b)) { // which holds zeros
		return b[:n]
	}
	return append(make([]byte, 0, n+n/2), b...)[:n]
}

// move does an operation on names, unless what it is about is not there.
func (o op) move(names map[string]int) {
	a, ok := names[o.name]
	switch {
	case o.kind == create:
		names[o.name] = o.file
	case !ok:
	case o.kind == rename:
		delete(names, o.name)
		names[o.to] = a
	case o.kind == exchange:
		if b, ok := names[o.to]; ok {
			names[o.name], names[o.to] = b, a
		}
	case o.kind == remove:
		delete(names, o.name)
	}
}

func (f *Folder) find(what, name string) (int, error) {
	i, ok := f.names[path.Clean(name)]
	if !ok {
		return 0, &fs.PathError{Op: what, Path: name, Err: fs.ErrNotExist}
	}
	return i, nil
}

// Open opens a file. It may be written to as well, which nobody does.
func (f *Folder) Open(name string) (storage.File, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	i, err := f.find("open", name)
	return &file{f, i}, err
}

// Reopen opens a file to go on writing.
func (f *Folder) Reopen(name string) (storage.File, error) { return f.Open(name) }

// Create makes a file.
func (f *Folder) Create(name string) (storage.File, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name = path.Clean(name)
	if _, ok := f.names[name]; ok {
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	}
	f.files = append(f.files, nil)
	f.do(op{kind: create, name: name, file: len(f.files) - 1})
	return &file{f, len(f.files) - 1}, nil
}

// do does an operation on names and notes it. The lock is held.
func (f *Folder) do(o op) {
	o.move(f.names)
	f.ops = append(f.ops, o)
}

// Rename moves a file.
func (f *Folder) Rename(from, to string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	from, to = path.Clean(from), path.Clean(to)
	if _, err := f.find("rename", from); err != nil {
		return err
	}
	if _, ok := f.names[to]; ok {
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	}
	f.do(op{kind: rename, name: from, to: to})
	return nil
}

// MoveIn takes over a file of the same folder.
func (f *Folder) MoveIn(from storage.Folder, a, b string) error {
	if !f.Moves(from, a, b) {
		return errors.ErrUnsupported
	}
	return f.Rename(a, b)
}

// Moves tells whether the other folder is this one.
func (f *Folder) Moves(from storage.Folder, _, _ string) bool { return from == storage.Folder(f) }

// Exchange swaps two files.
func (f *Folder) Exchange(a, b string) error {
	if f.simple {
		return errors.ErrUnsupported
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	_, errA := f.find("exchange", a)
	_, errB := f.find("exchange", b)
	if errA != nil || errB != nil {
		return fs.ErrNotExist
	}
	f.do(op{kind: exchange, name: path.Clean(a), to: path.Clean(b)})
	return nil
}

// Remove removes a file; folders are there as long as something is in them.
func (f *Folder) Remove(name string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	name = path.Clean(name)
	if f.isDir(name) {
		return &fs.PathError{Op: "remove", Path: name, Err: fs.ErrInvalid}
	}
	if _, err := f.find("remove", name); err != nil {
		return err
	}
	f.do(op{kind: remove, name: name})
	return nil
}

func (f *Folder) isDir(name string) bool {
	if name == "." {
		return true
	}
	for n := range f.names {
		if strings.HasPrefix(n, name+"/") {
			return true
		}
	}
	return false
}

// Stat tells what a name is.
func (f *Folder) Stat(name string) (storage.Info, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.stat(path.Clean(name))
}

func (f *Folder) stat(name string) (storage.Info, error) {
	if f.isDir(name) {
		return storage.Info{Name: name, IsDir: true}, nil
	}
	i, err := f.find("stat", name)
	if err != nil {
		return storage.Info{}, err
	}
	n := int64(len(f.files[i]))
	info := storage.Info{Name: name, Size: n, Room: n, Regular: true, Modified: time.Unix(1_800_000_000, 0)}
	if !f.simple {
		info.ID = fmt.Sprint("file ", i)
	}
	return info, nil
}

// List lists a folder.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	dir = path.Clean(dir)
	if !f.isDir(dir) {
		return nil, &fs.PathError{Op: "list", Path: dir, Err: fs.ErrNotExist}
	}
	found := map[string]bool{}
	for n := range f.names {
		rest := n
		if dir != "." {
			var ok bool
			if rest, ok = strings.CutPrefix(n, dir+"/"); !ok {
				continue
			}
		}
		first, _, _ := strings.Cut(rest, "/")
		found[path.Join(dir, first)] = true
	}
	var infos []storage.Info
	for _, name := range slices.Sorted(maps.Keys(found)) {
		i, err := f.stat(name)
		if err != nil {
			return nil, err
		}
		infos = append(infos, i)
	}
	return infos, nil
}

// Sync makes the names in a folder durable.
func (f *Folder) Sync(dir string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ops = append(f.ops, op{kind: syncDir, name: path.Clean(dir)})
	return nil
}

// Space is always there.
func (f *Folder) Space() (storage.Space, error) {
	return storage.Space{Kind: "memory", Total: 1 << 40, Free: 1 << 40, ID: "memory"}, nil
}

// Close does nothing.
func (f *Folder) Close() error { return nil }

type file struct {
	folder *Folder
	number int
}

func (f *file) ReadAt(p []byte, off int64) (int, error) {
	f.folder.mu.Lock()
	defer f.folder.mu.Unlock()
	b := f.folder.files[f.number]
	if off >= int64(len(b)) {
		return 0, io.EOF
	}
	n := copy(p, b[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (f *file) WriteAt(p []byte, off int64) (int, error) {
	f.change(op{kind: write, data: slices.Clone(p), off: off})
	return len(p), nil
}

func (f *file) Truncate(n int64) error {
	f.change(op{kind: truncate, off: n})
	return nil
}

func (f *file) change(o op) {
	f.folder.mu.Lock()
	defer f.folder.mu.Unlock()
	o.file = f.number
	f.folder.files[f.number] = o.apply(f.folder.files[f.number])
	f.folder.ops = append(f.folder.ops, o)
}

func (f *file) Sync() error {
	f.folder.mu.Lock()
	defer f.folder.mu.Unlock()
	f.folder.ops = append(f.folder.ops, op{kind: sync_, file: f.number})
	return nil
}

func (f *file) Size() (int64, error) {
	f.folder.mu.Lock()
	defer f.folder.mu.Unlock()
	return int64(len(f.folder.files[f.number])), nil
}

func (f *file) Close() error { return nil }
