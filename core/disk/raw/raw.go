// Package raw reads and writes disks that are stored as the guest sees them, byte for byte, without any structure: in one
// file, or in numbered pieces of one length whose concatenation is the disk.
package raw

import (
	"context"
	"fmt"
	"math"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// Layouts: thin keeps ranges of zeros as holes of the file, thick takes its whole room from the start, pieces are thin.
const (
	thin   = "thin"
	thick  = "thick"
	pieces = "pieces"
)

func init() {
	size := func(virtual int64, _ disk.Options, _ disk.Stored) int64 { return virtual }
	disk.Register(disk.Format{
		Name:       "raw",
		Rank:       1,
		Extensions: []string{".raw", ".dd"},
		Layouts: []disk.Layout{
			{Name: thin, Largest: math.MaxInt64, Granularity: 1, Units: disk.AnyUnits(1), FileSize: size},
			{Name: thick, Thick: true, Largest: math.MaxInt64, Granularity: 1, Units: disk.AnyUnits(1), FileSize: size},
			{
				Name:        pieces,
				Gathers:     true,
				Largest:     disk.MaxPieces * mostPiece,
				Granularity: 1,
				Units:       disk.AnyUnits(1),
				FileSize:    size,
				Names:       pieceNames,
				Options:     []disk.Option{{Name: "piece_size", Default: defaultPiece, Least: leastPiece, Most: mostPiece, Multiple: 512}},
				Limit:       func(o disk.Options) int64 { return disk.MaxPieces * pieceSize(o) },
			},
		},
		Open:   open,
		Create: create,
	})
}

type reader struct {
	disk.Pieces
	files  []storage.File
	names  []string
	layout string
}

func open(_ context.Context, o disk.Origin) (disk.Reader, error) {
	names, inPieces, err := findPieces(o)
	if err != nil {
		return nil, err
	}
	r := &reader{names: names, layout: thin}
	var room int64
	for i, name := range names {
		info, err := o.Folder.Stat(name)
		if err == nil {
			err = r.add(o.Folder, name)
		}
		if err == nil && i > 0 && info.Size != r.first() && (i < len(names)-1 || info.Size > r.first()) {
			err = disk.Damaged("the piece %s has %d bytes and the first one %d: it is truncated or of another disk", name, info.Size, r.first())
		}
		if err != nil {
			r.Close()
			return nil, err
		}
		room += info.Room
	}
	switch {
	case inPieces:
		r.layout = pieces
	case room >= r.Size():
		r.layout = thick
	}
	return r, nil
}

func (r *reader) add(folder storage.Folder, name string) error {
	file, err := folder.Open(name)
	if err != nil {
		return err
	}
	r.files = append(r.files, file)
	size, err := file.Size()
	if size > 0 {
		r.Add(disk.FilePiece{File: file, Name: name, Len: size}, size)
	}
	return err
}

// first is the length of the first piece.
func (r *reader) first() int64 {
	_, at := r.At(0)
	return at.Len
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{Format: "raw", Layout: r.layout, VirtualSize: r.Size(), Files: r.names}
	if r.Size()%512 != 0 {
		d.Warnings = append(d.Warnings, fmt.Sprintf("the size of %d bytes is not a multiple of a sector of 512 bytes", r.Size()))
	}
	return d
}

// File is the one file of a disk that is not in pieces.
func (r *reader) File() storage.File {
	if len(r.files) != 1 {
		return nil
	}
	return r.files[0]
}

func (r *reader) Close() error {
	var err error
	for _, f := range r.files {
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
	}
	return err
}

func create(t disk.Target) (disk.Writer, error) {
	if t.Layout == pieces {
		return createPieces(t)
	}
	return disk.CreateFlat(t, t.Layout == thick, nil)
}
