// Package inspect looks inside a disk: its partition table and the filesystems on it. It reads a few sectors only and
// believes nothing that it has not bounded.
package inspect

import (
	"fmt"
	"io"
)

// Disk is what an inspection reads.
type Disk interface {
	io.ReaderAt
	Size() int64
}

// Contents are what is inside a disk.
type Contents struct {
	Table      string      `json:"table"` // gpt or mbr, empty without a partition table
	Partitions []Partition `json:"partitions"`
	// SectorSize is that in which the table counts, in bytes, where it is a GPT.
	SectorSize int64 `json:"sector_size,omitempty"`
	// Filesystem is what lies on the disk itself, where it has no partitions.
	Filesystem *Filesystem `json:"filesystem,omitempty"`
	Warnings   []string    `json:"warnings"`
	// Doubts are those of the warnings that speak against the content being whole.
	Doubts []string `json:"doubts,omitempty"`
}

func (c *Contents) doubt(text string) {
	c.Warnings, c.Doubts = append(c.Warnings, text), append(c.Doubts, text)
}

// Partition is a part of a disk, in bytes.
type Partition struct {
	Number     int         `json:"number"`
	Offset     int64       `json:"offset"`
	Length     int64       `json:"length"`
	Type       string      `json:"type"`
	Name       string      `json:"name,omitempty"`
	Active     bool        `json:"active,omitempty"` // a BIOS starts from it
	Filesystem *Filesystem `json:"filesystem,omitempty"`
}

// Filesystem is what was recognised by its marks.
type Filesystem struct {
	Kind  string `json:"kind"`
	Label string `json:"label,omitempty"`
	ID    string `json:"id,omitempty"`
	// Size is its own, Used what of it is not free, and Doubt why its map of what is used is not to be relied on; where it is read, see Fill.
	Size  int64  `json:"size,omitempty"`
	Used  int64  `json:"used,omitempty"`
	Doubt string `json:"doubt,omitempty"`
	// Volumes are those of LVM that lie on it alone.
	Volumes []Logical `json:"volumes,omitempty"`
}

// Inside inspects d. An unreadable sector is an error; content that makes no sense is not.
func Inside(d Disk) (Contents, error) {
	c := Contents{Partitions: []Partition{}, Warnings: []string{}}
	sector, err := read(d, 0, 512)
	if err != nil {
		return c, err
	}
	var found []Partition
	for _, size := range []int64{512, 4096} { // of a logical sector: the image does not tell
		if found, err = gpt(d, size, &c); err != nil {
			return c, err
		}
		if found != nil {
			c.Table = "gpt"
			break
		}
	}
	if c.Table == "" {
		whole, err := filesystem(d, 0, d.Size())
		if err != nil {
			return c, err
		}
		if whole != nil {
			c.volumes(d, whole, 0, d.Size())
		}
		// A filesystem's boot sector ends with the same two bytes as a partition table.
		if whole != nil {
			c.Filesystem = whole
			return c, nil
		}
		if found, err = mbr(d, sector); err != nil {
			return c, err
		}
		if found != nil {
			c.Table = "mbr"
		}
	}
	for _, p := range found {
		if p.Offset+p.Length > d.Size() {
			c.doubt(
				fmt.Sprintf("partition %d ends at %d, behind the end of the disk at %d: the disk was cut", p.Number, p.Offset+p.Length, d.Size()),
			)
		}
		if p.Filesystem, err = filesystem(d, p.Offset, min(p.Length, d.Size()-p.Offset)); err != nil {
			return c, err
		}
		if p.Filesystem != nil {
			c.volumes(d, p.Filesystem, p.Offset, min(p.Length, d.Size()-p.Offset))
		}
		c.Partitions = append(c.Partitions, p)
	}
	return c, nil
}

// volumes adds those of LVM, and what lies on them.
func (c *Contents) volumes(d Disk, f *Filesystem, off, length int64) {
	if f.Kind != kindLVM {
		return
	}
	l, err := logical(d, off, length)
	if err != nil {
		c.Warnings = append(c.Warnings, fmt.Sprintf("what LVM has at offset %d cannot be read: %v", off, err))
		return
	}
	f.Volumes = l.volumes
	for i, v := range f.Volumes {
		on, err := filesystem(v.disk(d, off), 0, v.Size)
		if err != nil {
			c.Warnings = append(c.Warnings, fmt.Sprintf("the volume %s: %v", v.Name, err))
		}
		f.Volumes[i].Filesystem = on
	}
}

// read returns n bytes at off; what lies behind the end of the disk reads as zeros.
func read(d Disk, off, n int64) ([]byte, error) {
	b := make([]byte, n)
	if off < 0 || off >= d.Size() {
		return b, nil
	}
	got := min(n, d.Size()-off)
	if k, err := d.ReadAt(b[:got], off); int64(k) < got {
		return b, fmt.Errorf("looking inside at offset %d: %w", off, err)
	}
	return b, nil
}
