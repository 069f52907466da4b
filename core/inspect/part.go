package inspect

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/disk"
)

// Part opens the filesystem of a partition by its number, 0 for one that has the whole disk. It fails with fs.ErrNotExist where there is none, and
// with errors.ErrUnsupported for one whose files are not read.
func Part(d Disk, number int) (*Volume, error) {
	c, err := Inside(d)
	if err != nil {
		return nil, err
	}
	return c.part(d, number)
}

// On opens the filesystem of a spot, see Part.
func On(d Disk, s Spot) (*Volume, error) {
	c, err := Inside(d)
	if err != nil {
		return nil, err
	}
	if s.Volume == "" {
		return c.part(d, s.Partition)
	}
	var names []string
	for _, p := range c.all(d) {
		if p.Filesystem == nil {
			continue
		}
		for _, v := range p.Filesystem.Volumes {
			if names = append(names, v.Name); v.Name != s.Volume {
				continue
			}
			if v.Filesystem == nil {
				return nil, fmt.Errorf("the volume %s has no filesystem that is known: %w", s.Volume, errors.ErrUnsupported)
			}
			return Mount(v.disk(d, p.Offset), v.Filesystem.Kind, 0, v.Size)
		}
	}
	return nil, fmt.Errorf("the disk has no volume %s, but %s: %w", s.Volume, cmp.Or(strings.Join(names, ", "), "none"), fs.ErrNotExist)
}

// all are its partitions, or the disk itself as one.
func (c Contents) all(d Disk) []Partition {
	if c.Filesystem != nil {
		return []Partition{{Length: d.Size(), Filesystem: c.Filesystem}}
	}
	return c.Partitions
}

func (c Contents) part(d Disk, number int) (*Volume, error) {
	if number == 0 && c.Filesystem != nil {
		return Mount(d, c.Filesystem.Kind, 0, d.Size())
	}
	i := slices.IndexFunc(c.Partitions, func(p Partition) bool { return p.Number == number })
	switch {
	case number == 0 && len(c.Partitions) > 0:
		return nil, fmt.Errorf("the disk has partitions: name one, from %d on: %w", c.Partitions[0].Number, fs.ErrNotExist)
	case i < 0:
		return nil, fmt.Errorf("the disk has no partition %d: %w", number, fs.ErrNotExist)
	case c.Partitions[i].Filesystem == nil:
		return nil, fmt.Errorf("partition %d has no filesystem that is known: %w", number, errors.ErrUnsupported)
	}
	p := c.Partitions[i]
	return Mount(d, p.Filesystem.Kind, p.Offset, p.Length)
}

// Spot is a file or folder inside of a disk: the number of its partition, or the name of its volume of LVM, and its path there.
type Spot struct {
	Partition int
	Volume    string // GROUP/VOLUME, empty for a partition
	Path      string // as fs.ValidPath wants it
}

// ParseSpot reads PARTITION:PATH.
func ParseSpot(text string) (Spot, error) {
	number, name, ok := strings.Cut(text, ":")
	n, err := strconv.Atoi(number)
	volume := ""
	if err != nil && strings.Contains(number, "/") {
		n, volume, err = 0, number, nil
	}
	if !ok || err != nil || n < 0 {
		return Spot{}, fmt.Errorf(
			"a place inside of a disk is written PARTITION:PATH, such as 2:/etc/hostname (0 where the whole disk is one filesystem; a volume of LVM by its name), and %q is not",
			text,
		)
	}
	name = strings.Trim(name, "/")
	if name == "" {
		name = "."
	}
	if !fs.ValidPath(name) {
		return Spot{}, fmt.Errorf("%q is no path inside of a filesystem", name)
	}
	return Spot{n, volume, name}, nil
}

func (s Spot) String() string {
	on := s.Volume
	if on == "" {
		on = strconv.Itoa(s.Partition)
	}
	return on + ":/" + strings.TrimPrefix(s.Path, ".")
}

// Found is a file or folder in a listing.
type Found struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"` // file, folder, link, or other
	Size     int64     `json:"size"` // bytes, of a file
	Modified time.Time `json:"modified"`
}

// listing lists a folder of a disk, by names.
func listing(d Disk, spot Spot) ([]Found, error) {
	v, err := On(d, spot)
	if err != nil {
		return nil, err
	}
	entries, err := v.ReadDir(spot.Path)
	if err != nil {
		return nil, err
	}
	all := make([]Found, 0, len(entries))
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			return nil, err
		}
		f := Found{Name: e.Name(), Kind: "other", Modified: info.ModTime()}
		switch {
		case e.IsDir():
			f.Kind = "folder"
		case e.Type()&fs.ModeSymlink != 0:
			f.Kind = "link"
		case e.Type().IsRegular():
			f.Kind, f.Size = "file", info.Size()
		}
		all = append(all, f)
	}
	return all, nil
}

// Fill adds what filesystems say of themselves, as far as they are read.
func (c *Contents) Fill(d Disk) {
	fill := func(d Disk, f *Filesystem, off, length int64) {
		if f == nil {
			return
		}
		v, err := Mount(d, f.Kind, off, length)
		if errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, disk.ErrUnsupported) {
			return
		}
		if err != nil {
			c.Warnings = append(c.Warnings, err.Error())
			return
		}
		about := v.About()
		f.Size, f.Used, f.Doubt = about.Size, about.Used, about.Doubt
		if l, ok := v.Nodes.(Labelled); ok {
			f.Label = l.Label()
		}
	}
	for _, p := range c.all(d) {
		fill(d, p.Filesystem, p.Offset, p.Length)
		if p.Filesystem == nil {
			continue
		}
		for _, v := range p.Filesystem.Volumes {
			fill(v.disk(d, p.Offset), v.Filesystem, 0, v.Size)
		}
	}
}
