package vmdk

import (
	"context"
	"encoding/binary"
	"fmt"

	"bagaglio/core/disk"
)

// fileLayout is where the parts of an image that we write lie: header, descriptor, the second directory with its tables, the
// first one with its, then grains from a whole MiB on. All tables are there from the start.
type fileLayout struct {
	tables                int64 // how many
	redundant, directory  int64 // offsets
	redundantT, directorT int64 // offsets of their first tables
	first                 int64 // offset of the first grain
}

func planFile(virtual int64) fileLayout {
	const table = 4 * tableEntries
	l := fileLayout{tables: up(virtual, coversTable) / coversTable, redundant: directoryAt}
	directory := up(4*l.tables, sector)
	l.redundantT = l.redundant + directory
	l.directory = l.redundantT + l.tables*table
	l.directorT = l.directory + directory
	l.first = up(l.directorT+l.tables*table, alignment)
	return l
}

type writer struct {
	*disk.BlockWriter
	layout fileLayout
}

func create(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	layout := planFile(t.Size)
	blocks, err := disk.NewBlockWriter(t, grain, layout.first, grain)
	if err != nil {
		return nil, err
	}
	return &writer{blocks, layout}, nil
}

// Commit writes tables, directories, descriptor and header, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := w.writeTables(); err != nil {
		return fmt.Errorf("writing the grain tables of %s: %w", w.Target.Name, err)
	}
	d := descriptor{
		cid: binary.LittleEndian.Uint32(w.Target.Identifier[:4]) &^ (1 << 31), parentCID: noParent, kind: "monolithicSparse", adapter: "ide",
		extents: []extentLine{{sectors: w.Target.Size / sector, kind: "SPARSE", file: w.Target.Name}},
	}
	text := d.encode(w.Target.Size)
	if len(text) > descriptorLn {
		return fmt.Errorf("the name %q is too long for the descriptor: choose a shorter one", w.Target.Name)
	}
	h := header{
		version: 1, flags: newlineFlag | redundantFlag, capacity: uint64(w.Target.Size / sector), grain: grain / sector,
		descriptor: descriptorAt / sector, descriptorSize: descriptorLn / sector, entries: tableEntries,
		redundant: uint64(w.layout.redundant / sector), directory: uint64(w.layout.directory / sector), overhead: uint64(w.layout.first / sector),
	}
	return w.Finish(w.End(),
		disk.Part{What: "second directory", Bytes: w.encodeDirectory(w.layout.redundantT), Off: w.layout.redundant},
		disk.Part{What: "directory", Bytes: w.encodeDirectory(w.layout.directorT), Off: w.layout.directory},
		disk.Part{What: "descriptor", Bytes: append(text, make([]byte, descriptorLn-len(text))...), Off: descriptorAt},
		disk.Part{What: "header", Bytes: h.encode(), Off: 0})
}

func (w *writer) encodeDirectory(firstTable int64) []byte {
	b := make([]byte, 4*w.layout.tables)
	for i := range w.layout.tables {
		binary.LittleEndian.PutUint32(b[4*i:], uint32((firstTable+i*4*tableEntries)/sector))
	}
	return b
}

// writeTables writes the tables that have an entry; the others are holes of the file, which read as the zeros that they are.
func (w *writer) writeTables() error {
	b := make([]byte, 4*tableEntries)
	for table := range w.layout.tables {
		if w.Empty(table * tableEntries) {
			continue
		}
		clear(b)
		used := false
		for i := range int64(tableEntries) {
			if off, stored := w.Find(table*tableEntries + i); stored {
				binary.LittleEndian.PutUint32(b[4*i:], uint32(off/sector))
				used = true
			}
		}
		if !used {
			continue
		}
		for _, first := range []int64{w.layout.redundantT, w.layout.directorT} {
			if _, err := w.File.WriteAt(b, first+table*4*tableEntries); err != nil {
				return err
			}
		}
	}
	return nil
}
