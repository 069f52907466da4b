// Package raw reads and writes disks that are stored as the guest sees them, byte for byte, without any structure.
package raw

import (
	"context"
	"fmt"
	"math"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// Layouts: thin keeps ranges of zeros as holes of the file, thick takes its whole room from the start.
const (
	thin  = "thin"
	thick = "thick"
)

func init() {
	size := func(virtual int64, _ disk.Stored) int64 { return virtual }
	disk.Register(disk.Format{
		Name:       "raw",
		Extensions: []string{".raw", ".dd"},
		Layouts: []disk.Layout{
			{Name: thin, Largest: math.MaxInt64, Granularity: 1, Units: []int64{1}, FileSize: size},
			{Name: thick, Thick: true, Largest: math.MaxInt64, Granularity: 1, Units: []int64{1}, FileSize: size},
		},
		Open:   open,
		Create: create,
	})
}

type reader struct {
	storage.File
	name  string
	size  int64
	thick bool
}

func open(_ context.Context, o disk.Origin) (disk.Reader, error) {
	info, err := o.Folder.Stat(o.Name)
	if err != nil {
		return nil, err
	}
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return nil, err
	}
	size, err := file.Size()
	if err != nil {
		file.Close()
		return nil, err
	}
	return &reader{File: file, name: o.Name, size: size, thick: info.Room >= size}, nil
}

func (r *reader) Size() int64 { return r.size }

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	return disk.ReadRuns(p, off, r.size, func(p []byte, off int64) (int, error) {
		return len(p), disk.ReadFull(r.File, p, off)
	})
}

func (r *reader) Extent(off int64) (disk.Extent, error) { return disk.FileExtent(r.File, off, r.size) }

func (r *reader) Describe() disk.Description {
	d := disk.Description{Format: "raw", Layout: thin, VirtualSize: r.size, Files: []string{r.name}}
	if r.thick {
		d.Layout = thick
	}
	if r.size%512 != 0 {
		d.Warnings = append(d.Warnings, fmt.Sprintf("the size of %d bytes is not a multiple of a sector of 512 bytes", r.size))
	}
	return d
}

func create(t disk.Target) (disk.Writer, error) {
	return disk.CreateFlat(t, t.Layout == thick, nil)
}
