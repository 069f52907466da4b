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

// sparseWriter makes one sparse extent, with the descriptor of the disk in it or without.
type sparseWriter struct {
	*disk.BlockWriter
	layout     fileLayout
	descriptor *descriptor
	marked     bool // an entry says zeros
}

func createSparse(t disk.Target, d *descriptor) (disk.Writer, error) {
	w := &sparseWriter{layout: planFile(t.Size), descriptor: d}
	if d != nil {
		if text, err := d.encode(t.Size); err != nil || len(text) > descriptorLn {
			return nil, fmt.Errorf("the names %q and %q are too long for the descriptor: choose shorter ones", t.Name, t.BaseName)
		}
	}
	var err error
	if w.BlockWriter, err = disk.NewBlockWriter(t, grain, w.layout.first, grain); err != nil {
		return nil, err
	}
	w.Marks = true
	return w, nil
}

// Commit writes tables, directories, descriptor and header, and syncs all.
func (w *sparseWriter) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := w.writeTables(); err != nil {
		return fmt.Errorf("writing the grain tables of %s: %w", w.Target.Name, err)
	}
	h := header{
		version: 1, flags: newlineFlag | redundantFlag, capacity: uint64(w.Target.Size / sector), grain: grain / sector, entries: tableEntries,
		redundant: uint64(w.layout.redundant / sector), directory: uint64(w.layout.directory / sector), overhead: uint64(w.layout.first / sector),
	}
	if w.marked {
		h.version, h.flags = 2, h.flags|zeroFlag
	}
	parts := []disk.Part{
		{What: "second directory", Bytes: w.encodeDirectory(w.layout.redundantT), Off: w.layout.redundant},
		{What: "directory", Bytes: w.encodeDirectory(w.layout.directorT), Off: w.layout.directory},
	}
	if w.descriptor != nil {
		text, err := w.descriptor.encode(w.Target.Size)
		if err != nil {
			return err
		}
		h.descriptor, h.descriptorSize = descriptorAt/sector, descriptorLn/sector
		parts = append(parts, disk.Part{What: "descriptor", Bytes: append(text, make([]byte, descriptorLn-len(text))...), Off: descriptorAt})
	}
	return w.Finish(w.End(), append(parts, disk.Part{What: "header", Bytes: h.encode(), Off: 0})...)
}

func (w *sparseWriter) encodeDirectory(firstTable int64) []byte {
	b := make([]byte, 4*w.layout.tables)
	for i := range w.layout.tables {
		binary.LittleEndian.PutUint32(b[4*i:], uint32((firstTable+i*4*tableEntries)/sector))
	}
	return b
}

// writeTables writes the tables that have an entry; the others are holes of the file, which read as the zeros that they are.
func (w *sparseWriter) writeTables() error {
	b := make([]byte, 4*tableEntries)
	for table := range w.layout.tables {
		if w.Empty(table * tableEntries) {
			continue
		}
		clear(b)
		used := false
		for i := range int64(tableEntries) {
			entry := uint32(0)
			switch off, kind := w.Find(table*tableEntries + i); kind {
			case disk.Data:
				entry = uint32(off / sector)
			case disk.Zero:
				entry, w.marked = entryZero, true
			}
			binary.LittleEndian.PutUint32(b[4*i:], entry)
			used = used || entry != 0
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
