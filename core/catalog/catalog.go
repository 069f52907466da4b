// Package catalog says what lies in a pool: its files grouped to disks, what stands on what, and what belongs to nothing.
package catalog

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// File is a file of a pool. Sizes are in bytes.
type File struct {
	Name     string    `json:"name"`
	Size     int64     `json:"size"`
	Room     int64     `json:"room"` // what it takes of the storage, or its size where that is not told
	Modified time.Time `json:"modified"`
	ID       string    `json:"id,omitempty"`
}

func (f File) same(o File) bool {
	return f.Name == o.Name && f.Size == o.Size && f.Modified.Equal(o.Modified) && f.ID == o.ID
}

// Disk is a disk in a pool. Sizes are in bytes.
type Disk struct {
	Path          string    `json:"path"` // of what opens it
	Format        string    `json:"format"`
	Layout        string    `json:"layout"`
	VirtualSize   int64     `json:"virtual_size"`
	AllocatedSize int64     `json:"allocated_size"`
	FileSize      int64     `json:"file_size"` // lengths of its files
	Room          int64     `json:"room"`      // what they take of the storage
	Modified      time.Time `json:"modified"`  // the last of its files
	Files         []File    `json:"files"`
	Chain         []string  `json:"chain,omitempty"`     // files of all that it stands on
	Snapshots     []string  `json:"snapshots,omitempty"` // kept inside
	Tag           string    `json:"tag,omitempty"`       // beside it
	Dirty         bool      `json:"dirty,omitempty"`
	Problem       string    `json:"problem,omitempty"` // why it does not open
}

// Machine is a definition of a machine in a pool.
type Machine struct {
	machine.Definition
	File File `json:"file"`
	// Sealed tells that a file beside it holds its checksum.
	Sealed bool `json:"sealed,omitempty"`
}

// Seal is the name of a file that would hold its checksum.
func (m Machine) Seal() string {
	f, err := machine.Lookup(m.Format)
	if err != nil || f.Seal == "" {
		return ""
	}
	return strings.TrimSuffix(m.File.Name, path.Ext(m.File.Name)) + f.Seal
}

// Catalog is what lies in a pool.
type Catalog struct {
	Disks    []Disk
	Machines []Machine
	Strays   []File // that belong to no disk and define no machine
}

const (
	maxDepth = 12      // of folders that are looked through
	maxFiles = 500_000 // that are looked at
)

// Scanner looks through a pool.
type Scanner struct {
	Folder storage.Folder
	// Own is a folder that is left out.
	Own string
	// Format returns the format of a file, and whether it is a disk at all.
	Format func(ctx context.Context, info storage.Info) (format string, isDisk bool, err error)
	// Before is what an earlier scan found: of what has not changed since, nothing is opened again.
	Before Catalog
}

// Scan looks through the pool.
func (s Scanner) Scan(ctx context.Context) (Catalog, error) {
	infos, err := s.walk(".", 0, nil)
	if err != nil {
		return Catalog{}, fmt.Errorf("looking through the pool: %w", err)
	}
	x := &scan{Scanner: s, files: map[string]File{}, disks: map[string]Disk{}, strays: map[string]File{}, machines: map[string]Machine{}, owner: map[string]string{}}
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
	var found []Disk
	var machines []Machine
	for _, i := range infos {
		if err := ctx.Err(); err != nil {
			return Catalog{}, err
		}
		if m, ok := x.machine(i); ok {
			machines = append(machines, m)
			continue
		}
		d, ok, err := x.disk(ctx, i)
		if err != nil {
			return Catalog{}, err
		}
		if ok {
			found = append(found, d)
			for _, f := range d.Files {
				if f.Name != d.Path {
					x.owner[f.Name] = d.Path
				}
			}
		}
	}
	return x.group(found, machines, infos), nil
}

func toFile(i storage.Info) File {
	return File{Name: i.Name, Size: i.Size, Room: i.Taken(), Modified: i.Modified, ID: i.ID}
}

type scan struct {
	Scanner
	files    map[string]File
	disks    map[string]Disk    // of before
	strays   map[string]File    // likewise
	machines map[string]Machine // likewise
	owner    map[string]string
}

// group leaves out what is only a part of another disk, and finds tags and strays.
func (x *scan) group(found []Disk, machines []Machine, infos []storage.Info) Catalog {
	c := Catalog{Machines: machines}
	belongs := map[string]bool{}
	for i, m := range machines {
		belongs[m.File.Name] = true
		seal := m.Seal()
		if machines[i].Sealed = x.has(seal); machines[i].Sealed {
			belongs[seal] = true
		}
	}
	for _, d := range found {
		if x.owner[d.Path] != "" {
			continue
		}
		if tag := fingerprint.TagName(d.Path); x.has(tag) {
			d.Tag = tag
			belongs[tag] = true
		}
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
	slices.SortFunc(c.Disks, func(a, b Disk) int { return strings.Compare(a.Path, b.Path) })
	return c
}

// machine reads a file as a definition; ok is false for one that is none, or cannot be read.
func (x *scan) machine(info storage.Info) (m Machine, ok bool) {
	if info.IsDir || !machine.Claim(info.Name) {
		return m, false
	}
	file := x.files[info.Name]
	if old, ok := x.machines[info.Name]; ok && old.File.same(file) {
		return old, true
	}
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
func (s Scanner) walk(dir string, depth int, found []storage.Info) ([]storage.Info, error) {
	infos, err := s.Folder.List(dir)
	if err != nil {
		return found, err
	}
	for _, i := range infos {
		switch {
		case len(found) >= maxFiles:
			return found, nil
		case i.IsDir && i.Name == s.Own:
		case i.IsDir && depth < maxDepth:
			if disk.Claim(i.Name) != "" { // a folder that is a disk
				found = append(found, i)
			}
			if found, err = s.walk(i.Name, depth+1, found); err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, fs.ErrNotExist) {
				return found, err
			}
		case i.Regular:
			found = append(found, i)
		}
	}
	return found, nil
}

// disk describes a file as a disk; ok is false for one that is none, or a part of another.
func (x *scan) disk(ctx context.Context, info storage.Info) (d Disk, ok bool, err error) {
	if path.Ext(info.Name) == fingerprint.TagExtension || x.owner[info.Name] != "" {
		return d, false, nil
	}
	if old, ok := x.disks[info.Name]; ok && old.Problem == "" && x.unchanged(old) {
		return old, true, nil
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
	if d.AllocatedSize, err = disk.Allocated(ctx, r); err != nil || d.Format != "raw" {
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
