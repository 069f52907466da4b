package vmdk

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/zlib"
)

// Kinds of markers ("Markers"), in a sector of their own.
const (
	markerEnd       = 0
	markerTable     = 1
	markerDirectory = 2
	markerFooter    = 3
)

const streamOverhead = 64 << 10 // where the first grain of a stream lies

// streamSize is the most that a stream becomes long, in which no grain shrinks.
func streamSize(virtual, stored int64) int64 {
	tables := up(virtual, coversTable) / coversTable
	return streamOverhead + stored/grain*(grain+sector) + tables*(sector+4*tableEntries) + sector + up(4*tables, sector) + 3*sector
}

// streamWriter makes a stream: header, descriptor, compressed grains with a table behind each run of them, the directory
// and a footer that tells where it is. The file is written strictly from front to back.
type streamWriter struct {
	*disk.Spool
	header    header
	number    int64    // of the table that is being filled, -1 before the first one
	table     []uint32 //
	directory []uint32
}

func createStream(t disk.Target, d descriptor) (disk.Writer, error) {
	text, err := d.encode(t.Size)
	if err != nil || len(text) > descriptorLn {
		return nil, fmt.Errorf("the name %q is too long for the descriptor: choose a shorter one", t.Name)
	}
	w := &streamWriter{
		number: -1, table: make([]uint32, tableEntries),
		directory: make([]uint32, up(t.Size, coversTable)/coversTable),
		header: header{
			version: 3, flags: newlineFlag | compressFlag | markerFlag, capacity: uint64(t.Size / sector), grain: grain / sector,
			descriptor: descriptorAt / sector, descriptorSize: descriptorLn / sector, entries: tableEntries, directory: directoryAtEnd,
			overhead: streamOverhead / sector, compression: deflate,
		},
	}
	if w.Spool, err = disk.NewSpool(t, w); err != nil {
		return nil, err
	}
	_, err = w.Out.Write(append(w.header.encode(), text...))
	if err = errors.Join(err, w.Out.Pad(streamOverhead)); err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return w, nil
}

func (w *streamWriter) Unit() int64 { return grain }

var deflaters = sync.Pool{New: func() any {
	z, err := zlib.NewWriterLevel(nil, zlib.BestSpeed)
	if err != nil {
		panic(fmt.Sprintf("making an encoder: %v", err)) // only for a level that does not exist
	}
	return z
}}

// Encode gives the compressed grain; the last one is stored whole.
func (w *streamWriter) Encode(out, block []byte) ([]byte, error) {
	z := deflaters.Get().(*zlib.Writer)
	defer deflaters.Put(z)
	b := bytes.NewBuffer(out)
	z.Reset(b)
	_, err := z.Write(block)
	if err == nil && len(block) < grain {
		_, err = z.Write(make([]byte, grain-len(block)))
	}
	err = errors.Join(err, z.Close())
	return b.Bytes(), err
}

// Append writes a grain behind its marker.
func (w *streamWriter) Append(encoded []byte, off int64) error {
	if number := off / coversTable; number != w.number {
		if err := w.finishTable(); err != nil {
			return err
		}
		w.number = number
	}
	w.table[off%coversTable/grain] = uint32(w.Out.End / sector)
	marker := make([]byte, markerSize)
	binary.LittleEndian.PutUint64(marker, uint64(off/sector))
	binary.LittleEndian.PutUint32(marker[8:], uint32(len(encoded)))
	for _, b := range [][]byte{marker, encoded} {
		if _, err := w.Out.Write(b); err != nil {
			return err
		}
	}
	return w.Out.Pad(sector)
}

// mark writes a sector that says what comes behind it, and then that.
func (w *streamWriter) mark(kind uint32, b []byte) error {
	marker := make([]byte, sector)
	binary.LittleEndian.PutUint64(marker, uint64(up(int64(len(b)), sector)/sector))
	binary.LittleEndian.PutUint32(marker[12:], kind)
	_, err := w.Out.Write(append(marker, b...))
	return errors.Join(err, w.Out.Pad(sector))
}

func (w *streamWriter) finishTable() error {
	if w.number < 0 {
		return nil
	}
	w.directory[w.number] = uint32(w.Out.End/sector + 1) // behind the marker
	err := w.mark(markerTable, encode32(w.table))
	clear(w.table)
	w.number = -1
	return err
}

func encode32(entries []uint32) (b []byte) {
	for _, e := range entries {
		b = binary.LittleEndian.AppendUint32(b, e)
	}
	return b
}

// Commit encodes what was written out of order, writes directory and footer, and syncs all.
func (w *streamWriter) Commit(ctx context.Context) error {
	if err := w.Drain(ctx); err != nil {
		return err
	}
	if err := w.finishTable(); err != nil {
		return err
	}
	footer := w.header
	footer.directory = uint64(w.Out.End/sector + 1)
	err := errors.Join(w.mark(markerDirectory, encode32(w.directory)), w.mark(markerFooter, footer.encode()), w.mark(markerEnd, nil))
	if err != nil {
		return fmt.Errorf("writing the end of %s: %w", w.Target.Name, err)
	}
	return w.Finish()
}
