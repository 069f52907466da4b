package inspect

import (
	"fmt"
	"io/fs"
)

// Mounted is a filesystem on a disk whose files are read.
type Mounted struct {
	*Volume
	Partition Partition
	Logical   string      // the name of the volume of LVM that it lies on, empty where it lies on the partition itself
	As        *Filesystem // what it was recognised as
}

// Mounts are the filesystems on a disk whose files are read, and what is inside of it.
func Mounts(d Disk) (c Contents, all []Mounted, err error) {
	if c, err = Inside(d); err != nil {
		return c, nil, err
	}
	for _, p := range c.all(d) {
		if p.Filesystem == nil {
			continue
		}
		if v, err := Mount(d, p.Filesystem.Kind, p.Offset, p.Length); err == nil {
			all = append(all, Mounted{v, p, "", p.Filesystem})
		}
		for _, l := range p.Filesystem.Volumes {
			if l.Filesystem == nil {
				continue
			}
			if v, err := Mount(l.disk(d, p.Offset), l.Filesystem.Kind, 0, l.Size); err == nil {
				all = append(all, Mounted{v, p, l.Name, l.Filesystem})
			}
		}
	}
	return c, all, nil
}

// Where is how people call it.
func (p Mounted) Where() string {
	if p.Logical != "" {
		return "on " + p.Logical
	}
	if p.Partition.Number == 0 {
		return "on the disk"
	}
	return fmt.Sprintf("on partition %d", p.Partition.Number)
}

// Exists tells whether there is a file of that name.
func (p Mounted) Exists(name string) bool {
	info, err := p.StatFile(name)
	return err == nil && info.Mode.IsRegular()
}

// Text is the content of a small file, empty where there is none.
func (p Mounted) Text(name string) string {
	info, err := p.StatFile(name)
	if err != nil || !info.Mode.IsRegular() || info.Size > maxText {
		return ""
	}
	b, err := fs.ReadFile(p.Volume, name)
	if err != nil {
		return ""
	}
	return string(b)
}

// Names are those in a folder, none where it is not there.
func (p Mounted) Names(dir string) (all []string) {
	entries, err := p.ReadDir(dir)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return all
}
