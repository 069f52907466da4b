// Package volumes is a pool whose raw disks are volumes of a host, of LVM or ZFS, and whose other files (tags, definitions, notes) lie in a folder. Volumes
// are made, grown, named and removed by the system's own tools. That a disk under its name is whole or absent holds here too: a volume is made under a name of
// the staging folder, and renamed when it is proven.
package volumes

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// Folder is such a pool.
type Folder struct {
	set
	beside storage.Folder
	on     Computer
	tools  tools
	opened *counts
	known  *known
}

// counts are how often this process has volumes open, by their identity.
type counts struct {
	mu    sync.Mutex
	of    map[string]int
	other map[string]bool // it was open before this process had it so
}

func (c *counts) opens(v volume) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of[v.id] == 0 {
		c.other[v.id] = v.open
	}
	c.of[v.id]++
}

func (c *counts) closes(v volume) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.of[v.id]--
}

// byOthers tells whether somebody else has a volume open. The system says no more than that it is: while this process has it so, that is what it was before.
func (c *counts) byOthers(v volume) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of[v.id] > 0 {
		return c.other[v.id]
	}
	return v.open
}

// NameOf is the name of a path of the host: of a volume, or of a file beside them.
func (f *Folder) NameOf(at string) (string, bool) {
	if name, ok, is := f.nameOf(path.Clean(at)); is {
		return name, ok
	}
	if ground, ok := storage.As[storage.Grounded](f.beside); ok {
		return ground.NameOf(at)
	}
	return "", false
}

// Open returns the pool of the volumes of that name, see Check, with a folder beside them on the same computer. It takes over the folder.
func Open(name string, beside storage.Folder, on Computer) (*Folder, error) {
	s, err := parse(name)
	if err != nil {
		return nil, err
	}
	f := &Folder{
		set:    s,
		beside: beside,
		on:     on,
		tools:  s.kind.tools(s, on),
		opened: &counts{of: map[string]int{}, other: map[string]bool{}},
		known:  &known{},
	}
	if _, _, err := f.tools.room(); err != nil {
		return nil, err
	}
	return f, nil
}

// Unit is what the sizes of disks are multiples of, in bytes.
func (f *Folder) Unit() (int64, error) { return f.tools.unit() }

// Thin tells whether volumes take their room only when they are written to.
func (f *Folder) Thin() bool { return f.tools.zeros() }

// Fresh returns the same folder, read past what the system remembers. Volumes always are.
func (f *Folder) Fresh() storage.Folder {
	fresh := *f
	fresh.beside = storage.Fresh(f.beside)
	return &fresh
}

// Caveats are those of the folder.
func (f *Folder) Caveats() (all []string) {
	if c, ok := storage.As[storage.Careful](f.beside); ok {
		all = c.Caveats()
	}
	return all
}

// keptFor is for how long a list of volumes is good enough. The tools refuse whatever has changed meanwhile.
const keptFor = time.Second

// known is the last list of volumes. What this process changes is forgotten at once.
type known struct {
	mu  sync.Mutex
	all []volume
	at  time.Time
}

func (k *known) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.at = time.Time{}
}

// list are the volumes that there are, or were so long ago.
func (f *Folder) list(old time.Duration) ([]volume, error) {
	k := f.known
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.at) < old {
		return k.all, nil
	}
	asked := time.Now()
	all, err := f.tools.list()
	if err == nil {
		k.all, k.at = all, asked
	}
	return all, err
}

// find is the volume of a name. It fails with fs.ErrNotExist where there is none.
func (f *Folder) find(op, name string) (volume, error) {
	want, err := f.encode(name)
	if err != nil {
		return volume{}, err
	}
	all, err := f.list(keptFor)
	if err != nil {
		return volume{}, err
	}
	i := slices.IndexFunc(all, func(v volume) bool { return v.name == want })
	if i < 0 {
		return volume{}, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	}
	return all[i], nil
}

// findNow finds it as it is at this moment: who has it open changes.
func (f *Folder) findNow(op, name string) (volume, error) {
	if _, err := f.list(0); err != nil {
		return volume{}, err
	}
	v, err := f.find(op, name)
	if err == nil {
		v.open, err = f.tools.isOpen(v)
	}
	return v, err
}

func isVolume(name string) bool { return strings.HasSuffix(name, Extension) }

// Open opens a volume, or a file of the folder.
func (f *Folder) Open(name string) (storage.File, error) {
	if !isVolume(name) {
		return f.beside.Open(name)
	}
	v, err := f.findNow("open", name)
	if err != nil {
		return nil, err
	}
	return f.open(v, false)
}

func (f *Folder) open(v volume, write bool) (*file, error) {
	opened, err := f.on.OpenVolume(v.path, v.size, write)
	if errors.Is(err, fs.ErrPermission) {
		err = fmt.Errorf("%w; volumes are opened by root only, or by the group disk", err)
	}
	if err != nil {
		return nil, err
	}
	f.opened.opens(v)
	return &file{File: opened, folder: f, volume: v, size: v.size}, nil
}

// Create makes a volume, as small as can be, or a file of the folder.
func (f *Folder) Create(name string) (storage.File, error) {
	if !isVolume(name) {
		return f.beside.Create(name)
	}
	switch _, err := f.find("create", name); {
	case err == nil:
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	called, err := f.encode(name)
	if err != nil {
		return nil, err
	}
	unit, err := f.tools.unit()
	if err != nil {
		return nil, err
	}
	err = f.tools.make(called, unit)
	f.known.forget()
	if err != nil {
		return nil, fmt.Errorf("making the volume %s: %w", called, err)
	}
	v, err := f.find("create", name)
	if err != nil {
		return nil, err
	}
	opened, err := f.open(v, true)
	if err != nil {
		return nil, err
	}
	if err := opened.zero(0, v.size); err != nil {
		return nil, errors.Join(err, opened.Close())
	}
	return &made{file: opened, unit: unit, written: map[int64]bool{}}, nil
}

// Reopen opens what Create made, to go on.
func (f *Folder) Reopen(name string) (storage.File, error) {
	if !isVolume(name) {
		return f.beside.Reopen(name)
	}
	v, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	return f.open(v, true)
}

// Rename gives a volume or a file another name.
func (f *Folder) Rename(from, to string) error {
	switch {
	case isVolume(from) != isVolume(to):
		return fmt.Errorf("%s cannot become %s: one is a volume and the other a file: %w", from, to, errors.ErrUnsupported)
	case !isVolume(from):
		return f.beside.Rename(from, to)
	}
	v, err := f.find("rename", from)
	if err != nil {
		return err
	}
	switch _, err := f.find("rename", to); {
	case err == nil:
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	called, err := f.encode(to)
	if err != nil {
		return err
	}
	defer f.known.forget()
	return f.tools.rename(v.name, called)
}

// Exchange swaps two files; volumes cannot do that.
func (f *Folder) Exchange(a, b string) error {
	if isVolume(a) || isVolume(b) {
		return errors.ErrUnsupported
	}
	return f.beside.Exchange(a, b)
}

// Remove removes a volume, a file, or an empty folder.
func (f *Folder) Remove(name string) error {
	if isVolume(name) {
		v, err := f.find("remove", name)
		if err != nil {
			return err
		}
		defer f.known.forget()
		return f.tools.remove(v.name)
	}
	below, err := f.below(name)
	if err != nil {
		return err
	}
	if len(below) > 0 {
		return &fs.PathError{Op: "remove", Path: name, Err: errors.New("the folder is not empty")}
	}
	return f.beside.Remove(name)
}

// below are the names in a folder that volumes have, by their paths from the top; nil for a folder that they lie in.
func (f *Folder) below(dir string) (map[string]*volume, error) {
	dir, err := storage.Clean(dir)
	if err != nil {
		return nil, err
	}
	all, err := f.list(keptFor)
	found := map[string]*volume{}
	for _, v := range all {
		name, ok := f.decode(v.name)
		if dir != "." {
			var in bool
			name, in = strings.CutPrefix(name, dir+"/")
			ok = ok && in
		}
		switch first, _, deeper := strings.Cut(name, "/"); {
		case ok && deeper:
			found[path.Join(dir, first)] = nil
		case ok:
			found[path.Join(dir, first)] = &v
		}
	}
	return found, err
}

func (f *Folder) info(name string, v volume) storage.Info {
	return storage.Info{Name: name, Size: v.size, Room: v.room, Modified: v.made, Regular: true, ID: "volume " + v.id}
}

// Stat tells of a volume, a file, or a folder.
func (f *Folder) Stat(name string) (storage.Info, error) {
	if isVolume(name) {
		v, err := f.find("stat", name)
		return f.info(name, v), err
	}
	info, err := f.beside.Stat(name)
	if !errors.Is(err, fs.ErrNotExist) {
		return info, err
	}
	below, belowErr := f.below(name)
	if belowErr != nil || len(below) == 0 {
		return info, cmp.Or(belowErr, err)
	}
	return storage.Info{Name: name, IsDir: true}, nil
}

// List returns volumes, files and folders, by their names.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	all, err := f.beside.List(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	below, belowErr := f.below(dir)
	if belowErr != nil {
		return nil, belowErr
	}
	if err != nil && len(below) == 0 {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(i storage.Info) bool { _, is := below[i.Name]; return is || isVolume(i.Name) })
	for name, v := range below {
		if v == nil {
			all = append(all, storage.Info{Name: name, IsDir: true})
			continue
		}
		all = append(all, f.info(name, *v))
	}
	slices.SortFunc(all, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// Sync returns when names are on stable storage. Those of volumes are when their tool has ended.
func (f *Folder) Sync(dir string) error {
	if _, err := f.beside.Stat(dir); errors.Is(err, fs.ErrNotExist) { // only volumes lie there
		return nil
	}
	return f.beside.Sync(dir)
}

// Space tells of the room for volumes.
func (f *Folder) Space() (storage.Space, error) {
	s, err := f.beside.Space()
	if err != nil {
		return s, err
	}
	s.Total, s.Free, err = f.tools.room()
	s.Kind, s.LargestFile, s.Holes, s.ID = f.kind.name, 0, false, f.kind.name+" "+f.group
	return s, err
}

// Close closes the folder.
func (f *Folder) Close() error { return f.beside.Close() }

// InUse tells whether anybody but this process has a volume open, as far as its tools know, and of files what the folder tells.
func (f *Folder) InUse(name string) (string, error) {
	if !isVolume(name) {
		u, ok := storage.As[storage.Usage](f.beside)
		if !ok {
			return "", nil
		}
		return u.InUse(name)
	}
	v, err := f.findNow("stat", name)
	if err != nil || !f.opened.byOthers(v) {
		return "", err
	}
	return "the volume is open on its host", nil
}

// stat prints when the computer was started, as an ID, and what the kernel counts of the device behind a path.
const stat = `cat /proc/sys/kernel/random/boot_id "/sys/class/block/$(basename "$(readlink -f "$1")")/stat"`

// written is which of these words is the count of sectors written, from 0 (the kernel's Documentation/block/stat.rst).
const written = 7

// Version is that of a file of the folder. A volume is told from any other one by its identity.
func (f *Folder) Version(name string) (string, error) {
	v, ok := storage.As[storage.Versioner](f.beside)
	if isVolume(name) || !ok {
		return "", nil
	}
	return v.Version(name)
}

// Written changes whenever something is written to a volume.
func (f *Folder) Written(name string) (string, error) {
	if !isVolume(name) {
		return "", nil
	}
	v, err := f.find("stat", name)
	if err != nil {
		return "", err
	}
	said, err := run(f.on, "sh", "-c", stat, "sh", v.path)
	words := strings.Fields(said)
	if err != nil || len(words) <= written {
		return "", fmt.Errorf("asking whether something is written to %s: %w", name, err)
	}
	return strings.Join([]string{words[0], words[written], v.id}, " "), nil
}
