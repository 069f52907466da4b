// Package catalog says what lies in a pool: its files grouped to disks, what stands on what, and what belongs to nothing.
package catalog

import (
	"path"
	"strings"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// File is a file of a pool. Sizes are in bytes.
type File struct {
	Name     string    `json:"name"`
	Size     int64     `json:"size"`
	Room     int64     `json:"room"` // what it takes of the storage, or its size where that is not told
	Modified time.Time `json:"modified"`
	Changed  time.Time `json:"changed,omitzero"` // anything of it, whatever Modified was set to; zero where that is not told
	ID       string    `json:"id,omitempty"`
}

func (f File) same(o File) bool {
	return f.Name == o.Name && f.Size == o.Size && f.Modified.Equal(o.Modified) && f.Changed.Equal(o.Changed) && f.ID == o.ID
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
	Outside       string    `json:"outside,omitempty"`   // path on its computer of a file that it stands on, or has content in, outside of the pool
	Snapshots     []string  `json:"snapshots,omitempty"` // kept inside
	Tag           string    `json:"tag,omitempty"`       // beside it
	Tagged        *File     `json:"tagged,omitempty"`    // the tag as it was read
	Called        string    `json:"called,omitempty"`    // by people, as its tag says
	Note          string    `json:"note,omitempty"`      // likewise
	Dirty         bool      `json:"dirty,omitempty"`
	Filesystem    string    `json:"filesystem,omitempty"` // that lies on it alone, without partitions, as on root volumes of containers
	AtLeast       bool      `json:"at_least,omitempty"`   // it is too scattered for all that is allocated to be counted
	Problem       string    `json:"problem,omitempty"`    // why it does not open
}

// ID is the identity of the file that opens it, empty where that is not told.
func (d Disk) ID() string {
	for _, f := range d.Files {
		if f.Name == d.Path {
			return f.ID
		}
	}
	return ""
}

// Names are those of its files, with what opens it.
func (d Disk) Names() []string {
	names := []string{d.Path}
	for _, f := range d.Files {
		if f.Name != d.Path {
			names = append(names, f.Name)
		}
	}
	return names
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
	// Folders are all that were looked through, "." among them.
	Folders []string
	// Missed is what could not be looked at: what lies there is not known.
	Missed []Missed
}

// Missed is a file or folder that could not be looked at.
type Missed struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

func toFile(i storage.Info) File {
	return File{Name: i.Name, Size: i.Size, Room: i.Taken(), Modified: i.Modified, Changed: i.Changed, ID: i.ID}
}
