package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
	storagehttp "bagaglio/core/storage/http"
)

const (
	leaf = fingerprint.LeafSize
	// window is how many leaves are asked for at a time.
	window = 32
	// mostLeaves bounds those that are known of disks that lie here, and mostTags how many disks are looked at.
	mostLeaves, mostTags = 1 << 20, 32
	// after so many windows in which nothing was known, leaves are asked for in one of so many alone.
	patientFor, oneOf = 4, 16
)

// larder is what lies where a disk goes to: what another porter has of the same content is not sent.
type larder struct {
	folder storage.Folder
	spared atomic.Int64 // bytes that were not sent

	once  sync.Once
	known map[uint64]held // by the beginning of their leaves
	disks []disk.Reader
}

// held is a MiB of a disk that lies here, as its tag says. Whether it is so still, shows when it is read.
type held struct {
	disk   int32
	number int32
}

func key(d fingerprint.Digest) (k uint64) {
	for _, b := range d[:8] {
		k = k<<8 | uint64(b)
	}
	return k
}

// look reads the tags of disks that lie in a folder, and at its top.
func (l *larder) look(ctx context.Context, dir string) {
	l.known = map[uint64]held{}
	dirs := []string{dir, "."}
	if path.Clean(dir) == "." {
		dirs = dirs[:1]
	}
	for _, dir := range dirs {
		infos, err := l.folder.List(dir)
		if err != nil {
			continue // nothing lies there
		}
		slices.SortFunc(infos, func(a, b storage.Info) int { return b.Modified.Compare(a.Modified) })
		for _, info := range infos {
			if name, isTag := strings.CutSuffix(info.Name, fingerprint.TagName("")); isTag && len(l.disks) < mostTags {
				l.add(ctx, name)
			}
		}
	}
}

// add takes in what the tag of a disk says.
func (l *larder) add(ctx context.Context, name string) {
	r, err := disk.Open(ctx, l.folder, name, "")
	if err != nil {
		return // it is none that opens
	}
	tag, err := inspect.ReadTag(l.folder, fingerprint.TagName(name), r.Size())
	if err != nil || tag.Leaves == nil || tag.Leaves.Total() > mostLeaves-int64(len(l.known)) {
		_ = r.Close() // nothing is known of it
		return
	}
	at := int32(len(l.disks))
	l.disks = append(l.disks, r)
	for i := range tag.Leaves.Total() {
		l.known[key(tag.Leaves.At(i))] = held{at, int32(i)}
	}
}

// find fills p with what has a leaf, and tells whether it lies here.
func (l *larder) find(d fingerprint.Digest, p []byte) bool {
	h, ok := l.known[key(d)]
	if !ok {
		return false
	}
	n, err := l.disks[h.disk].ReadAt(p, int64(h.number)*leaf)
	return n == len(p) && (err == nil || errors.Is(err, io.EOF)) && fingerprint.Leaf(p) == d
}

func (l *larder) close() {
	for _, r := range l.disks {
		_ = r.Close() // it was only read
	}
}

// lean is a file of another porter of which only that is sent which does not lie here.
type lean struct {
	storage.File
	leaves storagehttp.Leafy
	larder *larder
	old    storage.File // of the same name here, nil where there is none
	size   int64

	mu      sync.Mutex
	windows []*asked // the last ones, the newest last
	misses  int      // windows in a row of which nothing lay here
	number  int      // of windows so far
}

// asked is a window of leaves.
type asked struct {
	first  int64
	digest []fingerprint.Digest // nil where it was not worth asking
	told   []bool               // which of them were used: what is read again is asked for again
	hits   int
}

// atOnceAsked is how many windows are read from side by side.
const atOnceAsked = 4

// leanFile makes a file lean, where its server tells leaves and something lies here.
func (l *larder) leanFile(ctx context.Context, f storage.File, old storage.File, dir string) storage.File {
	leaves, ok := f.(storagehttp.Leafy)
	size, err := f.Size()
	if !ok || err != nil || size < leaf {
		return f
	}
	l.once.Do(func() { l.look(ctx, dir) })
	if len(l.known) == 0 && old == nil {
		return f
	}
	out := &lean{File: f, leaves: leaves, larder: l, old: old, size: size}
	if finder, ok := f.(storage.RangeFinder); ok {
		return struct {
			*lean
			storage.RangeFinder
		}{out, finder}
	}
	return out
}

func (f *lean) Close() error {
	if f.old != nil {
		return errors.Join(f.File.Close(), f.old.Close())
	}
	return f.File.Close()
}

// ReadAt takes whole leaves from here where they are known, and has the rest sent, what lies side by side at once.
func (f *lean) ReadAt(p []byte, off int64) (n int, err error) {
	if off >= f.size {
		return f.File.ReadAt(p, off)
	}
	whole := p[:min(int64(len(p)), f.size-off)]
	from := 0 // of what has to be sent
	send := func(to int) error {
		if to == from {
			return nil
		}
		_, err := f.File.ReadAt(whole[from:to], off+int64(from))
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return err
	}
	for at := int((leaf - off%leaf) % leaf); at < len(whole); at += leaf {
		length := int(min(leaf, f.size-off-int64(at)))
		if at+length > len(whole) {
			break
		}
		if !f.here(whole[at:at+length], off+int64(at)) {
			continue
		}
		if err := send(at); err != nil {
			return 0, err
		}
		from = at + length
	}
	if err := send(len(whole)); err != nil {
		return 0, err
	}
	if len(whole) < len(p) {
		return len(whole), io.EOF
	}
	return len(whole), nil
}

// here fills p with a leaf at a place, and tells whether that lay here.
func (f *lean) here(p []byte, off int64) bool {
	w, d, ok := f.at(off / leaf)
	if !ok {
		return false
	}
	if d == fingerprint.ZeroLeaf(len(p)) {
		clear(p)
		return true
	}
	found := false
	if f.old != nil {
		n, err := f.old.ReadAt(p, off)
		found = n == len(p) && (err == nil || errors.Is(err, io.EOF)) && fingerprint.Leaf(p) == d
	}
	if found = found || f.larder.find(d, p); found {
		f.larder.spared.Add(int64(len(p)))
		f.mu.Lock()
		w.hits++
		f.mu.Unlock()
	}
	return found
}

// at is the leaf of that number, and its window; not ok where it is not worth asking.
func (f *lean) at(number int64) (w *asked, d fingerprint.Digest, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	first := number / window * window
	at := number - first
	i := slices.IndexFunc(f.windows, func(w *asked) bool { return w.first == first })
	if i >= 0 && at < int64(len(f.windows[i].told)) && f.windows[i].told[at] {
		f.windows = slices.Delete(f.windows, i, i+1)
		i = -1
	}
	if i < 0 {
		f.ask(first)
		i = len(f.windows) - 1
	}
	w = f.windows[i]
	if at >= int64(len(w.digest)) {
		return w, d, false
	}
	w.told[at] = true
	return w, w.digest[at], true
}

// ask asks for a window, and forgets the oldest.
func (f *lean) ask(first int64) {
	if len(f.windows) == atOnceAsked {
		if old := f.windows[0]; old.digest != nil {
			if f.misses++; old.hits > 0 {
				f.misses = 0
			}
		}
		f.windows = f.windows[1:]
	}
	w := &asked{first: first}
	if f.number++; f.misses < patientFor || f.number%oneOf == 0 {
		if all, err := f.leaves.Leaves(first*leaf, min(window*leaf, f.size-first*leaf)); err == nil {
			w.digest, w.told = all, make([]bool, len(all))
		}
	}
	f.windows = append(f.windows, w)
}

// sparedRemark says what was not sent, empty where all was.
func (l *larder) sparedRemark() string {
	if n := l.spared.Load(); n > 0 {
		return fmt.Sprintf("%d MiB of the source were not sent, since content with the same digest lay here already", n>>20)
	}
	return ""
}
