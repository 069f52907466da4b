package catalog

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/storage"

	"golang.org/x/sync/errgroup"
)

// Bounds of a scan. What lies beyond them is missed, and is told.
const (
	maxDepth = 12      // of folders that are looked through
	maxFiles = 200_000 // that are looked at
	maxDirs  = 20_000  // that are looked through: a folder may seem to contain itself
	openFor  = 15 * time.Second
	// maxMissed bounds how many files and folders that could not be looked at are named.
	maxMissed = 1000
)

// tellEvery is how often whoever waits for a scan hears what it has found.
const tellEvery = 500 * time.Millisecond

// Scanner looks through a pool.
type Scanner struct {
	Folder storage.Folder
	// Root is where the folder lies on its computer; empty where that is not known.
	Root string
	// Own is a folder that is left out.
	Own string
	// Format returns the format of a file, and whether it is a disk at all. It is called by several goroutines.
	Format func(ctx context.Context, info storage.Info) (format string, isDisk bool, err error)
	// Before is what an earlier scan found: of what has not changed since, nothing is opened again.
	Before Catalog
	// Workers is how many files are opened at the same time; 0 means one.
	Workers int
	// Found, unless it is nil, is called now and then with the disks that were not known before, and how many of all files were seen. It may
	// be told of a file that turns out to be a part of another disk.
	Found func(disks []Disk, seen, of int) error
}

// Scan looks through the pool.
func (s Scanner) Scan(ctx context.Context) (Catalog, error) {
	x := &scan{
		Scanner:  s,
		files:    map[string]File{},
		disks:    map[string]Disk{},
		strays:   map[string]File{},
		machines: map[string]Machine{},
		owner:    map[string]string{},
	}
	infos, err := x.walk(ctx, ".", 0, nil)
	if err != nil {
		return Catalog{}, fmt.Errorf("looking through the pool: %w", err)
	}
	for _, i := range infos {
		x.files[i.Name] = toFile(i)
	}
	for _, d := range s.Before.Disks {
		x.disks[d.Path] = d
	}
	for _, m := range s.Before.Machines {
		x.machines[m.File.Name] = m
	}
	for _, f := range s.Before.Strays {
		x.strays[f.Name] = f
	}
	if err := x.open(ctx, infos); err != nil {
		return Catalog{}, err
	}
	return x.group(infos), nil
}

type scan struct {
	Scanner
	files    map[string]File
	disks    map[string]Disk    // of before
	strays   map[string]File    // likewise
	machines map[string]Machine // likewise

	folders []string
	full    bool // it has more folders than are looked through

	mu            sync.Mutex
	found         []Disk
	foundMachines []Machine
	owner         map[string]string // disks by their other files
	missed        []Missed
	fresh         []Disk // that nobody was told of
	seen          int
	told          time.Time
}

// open looks at all files, several at the same time.
func (x *scan) open(ctx context.Context, infos []storage.Info) error {
	x.told = time.Now()
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(max(1, x.Workers))
	for _, i := range infos {
		if within.Err() != nil {
			break
		}
		if m, ok := x.knownMachine(i); ok {
			x.noteMachine(m)
			continue
		}
		if d, known := x.knownDisk(i); known {
			x.note(d, false)
			continue
		}
		g.Go(func() error { return x.look(within, i, len(infos)) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// look looks at a file of which nothing is known.
func (x *scan) look(ctx context.Context, info storage.Info, of int) error {
	if m, ok := x.machine(info); ok {
		x.noteMachine(m)
		return nil
	}
	within, cancel := context.WithTimeout(ctx, openFor)
	defer cancel()
	d, ok, err := x.disk(within, info)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil { // it took too long
		x.miss(info.Name, fmt.Errorf("it could not be looked at within %s", openFor))
		d.Problem = fmt.Sprintf("it could not be looked at within %s", openFor)
	}
	if ok {
		x.note(d, true)
	}
	return x.tell(of)
}

// note keeps a disk that was found.
func (x *scan) note(d Disk, fresh bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.found = append(x.found, d)
	if fresh {
		x.fresh = append(x.fresh, d)
	}
	for _, f := range d.Files {
		if f.Name != d.Path {
			x.owner[f.Name] = d.Path
		}
	}
}

func (x *scan) noteMachine(m Machine) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.foundMachines = append(x.foundMachines, m)
}

func (x *scan) miss(name string, why error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.missed) < maxMissed {
		x.missed = append(x.missed, Missed{name, storage.Printable(why.Error())})
	}
}

// tell says what was found since it did so last.
func (x *scan) tell(of int) error {
	x.mu.Lock()
	x.seen++
	due := x.Found != nil && time.Since(x.told) > tellEvery
	var fresh []Disk
	if due {
		fresh, x.fresh, x.told = x.fresh, nil, time.Now()
	}
	seen := x.seen
	x.mu.Unlock()
	if !due {
		return nil
	}
	return x.Found(fresh, seen, of)
}

// group leaves out what is only a part of another disk, and finds tags and strays.
func (x *scan) group(infos []storage.Info) Catalog {
	c := Catalog{Machines: x.foundMachines, Folders: x.folders, Missed: x.missed}
	slices.SortFunc(c.Machines, func(a, b Machine) int { return strings.Compare(a.File.Name, b.File.Name) })
	for _, m := range c.Machines {
		if m.More {
			c.Missed = append(c.Missed, Missed{m.File.Name, "it names more files than are read of a definition"})
		}
	}
	slices.SortFunc(x.found, func(a, b Disk) int { return strings.Compare(a.Path, b.Path) })
	belongs := map[string]bool{}
	for i, m := range c.Machines {
		belongs[m.File.Name] = true
		seal := m.Seal()
		if c.Machines[i].Sealed = x.has(seal); c.Machines[i].Sealed {
			belongs[seal] = true
		}
	}
	for _, d := range x.found {
		if x.owner[d.Path] != "" {
			continue
		}
		d.Tag = ""
		if tag := fingerprint.TagName(d.Path); x.has(tag) {
			d.Tag = tag
			belongs[tag] = true
		}
		x.called(&d)
		belongs[inspect.SumsName(d.Path)], belongs[d.Path] = true, true
		for _, f := range d.Files {
			belongs[f.Name] = true
		}
		c.Disks = append(c.Disks, d)
	}
	for _, i := range infos {
		if !belongs[i.Name] && !i.IsDir {
			c.Strays = append(c.Strays, x.files[i.Name])
		}
	}
	return c
}

// called reads what people call a disk, where its tag is not the one any more that was read.
func (x *scan) called(d *Disk) {
	if d.Tag == "" {
		d.Tagged, d.Called, d.Note = nil, "", ""
		return
	}
	now := x.files[d.Tag]
	if d.Tagged != nil && d.Tagged.same(now) {
		return
	}
	d.Tagged, d.Called, d.Note = &now, "", ""
	if tag, err := inspect.TagHead(x.Folder, d.Path); err == nil { // one that is damaged tells nothing
		d.Called, d.Note = storage.Printable(tag.Called), storage.Printable(tag.Note)
	}
}

// knownMachine is a definition that has not changed.
func (x *scan) knownMachine(info storage.Info) (Machine, bool) {
	m, ok := x.machines[info.Name]
	return m, ok && m.File.same(x.files[info.Name])
}

// machine reads a file as a definition; ok is false for one that is none, or cannot be read.
func (x *scan) machine(info storage.Info) (m Machine, ok bool) {
	if info.IsDir || !machine.Claim(info.Name) {
		return m, false
	}
	file := x.files[info.Name]
	if old, ok := x.strays[info.Name]; ok && old.same(file) {
		return m, false
	}
	d, err := machine.Open(x.Folder, info.Name)
	return Machine{Definition: d, File: file}, err == nil
}

func (x *scan) has(name string) bool {
	_, ok := x.files[name]
	return ok
}

// walk collects the regular files below dir, and the folders that are disks.
func (x *scan) walk(ctx context.Context, dir string, depth int, found []storage.Info) ([]storage.Info, error) {
	if err := ctx.Err(); err != nil {
		return found, err
	}
	if len(x.folders) == maxDirs && !x.full {
		x.full = true
		x.miss(dir, fmt.Errorf("only %d folders of a pool are looked through", maxDirs))
	}
	if x.full {
		return found, nil
	}
	infos, err := x.Folder.List(dir)
	switch {
	case dir == "." && err != nil:
		return found, err
	case errors.Is(err, fs.ErrNotExist): // it is gone meanwhile
		return found, nil
	case err != nil && !errors.Is(err, storage.ErrLost):
		x.miss(dir, err)
		return found, nil
	case err != nil:
		return found, err
	}
	x.folders = append(x.folders, dir)
	for _, i := range infos {
		switch {
		case len(found) >= maxFiles:
			x.miss(i.Name, fmt.Errorf("only %d files of a pool are looked at", maxFiles))
			return found, nil
		case i.IsDir && path.Base(i.Name) == x.Own: // also that of a pool inside of this one
		case i.IsDir:
			if disk.Claim(i.Name) != "" { // a folder that is a disk
				found = append(found, i)
			}
			if depth == maxDepth {
				x.miss(i.Name, fmt.Errorf("folders are looked through %d deep", maxDepth))
				continue
			}
			if found, err = x.walk(ctx, i.Name, depth+1, found); err != nil {
				return found, err
			}
		case i.Regular:
			found = append(found, i)
		}
	}
	return found, nil
}

// knownDisk is a disk that has not changed.
func (x *scan) knownDisk(info storage.Info) (Disk, bool) {
	d, ok := x.disks[info.Name]
	return d, ok && d.Problem == "" && x.unchanged(d)
}

// disk describes a file as a disk; ok is false for one that is none, or a part of another. The error is that of ctx.
func (x *scan) disk(ctx context.Context, info storage.Info) (d Disk, ok bool, err error) {
	x.mu.Lock()
	owned := x.owner[info.Name] != ""
	x.mu.Unlock()
	if path.Ext(info.Name) == fingerprint.TagExtension || owned {
		return d, false, nil
	}
	if old, ok := x.strays[info.Name]; ok && old.same(x.files[info.Name]) {
		return d, false, nil
	}
	format, isDisk, err := x.Format(ctx, info)
	if !isDisk {
		return d, false, ctx.Err()
	}
	d = Disk{Path: info.Name, Format: format, Modified: info.Modified, FileSize: info.Size, Files: []File{}}
	if !info.IsDir {
		d.Files, d.Room = []File{toFile(info)}, toFile(info).Room
	}
	if err == nil {
		err = x.describe(ctx, &d)
	}
	var broken *disk.ChainError
	if errors.As(err, &broken) {
		d.Chain = broken.Reached
	}
	var outside *disk.OutsideError
	if errors.As(err, &outside) {
		d.Outside = outside.At
		if !path.IsAbs(d.Outside) {
			d.Outside = path.Join(x.Root, d.Outside)
		}
	}
	if err != nil {
		d.Problem, d.Format = storage.Printable(err.Error()), disk.Claim(info.Name)
	}
	return d, true, ctx.Err()
}

// unchanged tells whether all files of a disk are what they were.
func (x *scan) unchanged(d Disk) bool {
	for _, f := range d.Files {
		if now, ok := x.files[f.Name]; !ok || !f.same(now) {
			return false
		}
	}
	for _, name := range d.Chain {
		if !x.has(name) {
			return false
		}
	}
	return len(d.Files) > 0
}

func (x *scan) describe(ctx context.Context, d *Disk) error {
	r, err := disk.Open(ctx, x.Folder, d.Path, d.Format)
	if err != nil {
		return err
	}
	defer r.Close()
	about := r.Describe()
	d.Format, d.Layout, d.VirtualSize, d.Dirty, d.Chain, d.Snapshots = about.Format, about.Layout, about.VirtualSize, about.Dirty, about.Chain, about.Snapshots
	d.Files, d.FileSize, d.Room = []File{}, 0, 0
	for _, name := range about.Files {
		f, ok := x.files[name]
		if !ok { // it came meanwhile
			info, err := x.Folder.Stat(name)
			if err != nil {
				return err
			}
			f = toFile(info)
		}
		d.Files = append(d.Files, f)
		d.FileSize, d.Room = d.FileSize+f.Size, d.Room+f.Room
		if f.Modified.After(d.Modified) {
			d.Modified = f.Modified
		}
	}
	if inside, err := inspect.Inside(r); err == nil && inside.Filesystem != nil { // one that is damaged tells nothing
		d.Filesystem = inside.Filesystem.Kind
	}
	if d.AllocatedSize, d.AtLeast, err = disk.Allocated(ctx, r); err != nil || d.Format != "raw" {
		return err
	}
	d.Room = min(d.Room, d.AllocatedSize) // storage that does not tell the room of a file may tell its holes
	var tag *fingerprint.Tag
	if x.has(fingerprint.TagName(d.Path)) {
		tag, _ = inspect.TagHead(x.Folder, d.Path) // one that is damaged tells nothing
	}
	lacks, err := inspect.Lacks(x.Folder, d.Path, about, tag)
	if err == nil && len(lacks) > 0 {
		err = fmt.Errorf("%w: %s", disk.ErrDamaged, strings.Join(lacks, "; "))
	}
	return err
}
