package vhd

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// alignment of a block's data in the file, so that a guest's 4 KiB page never lies on two sectors of the storage.
const alignment = 4 << 10

func create(t disk.Target) (disk.Writer, error) {
	f := footer{
		DataOffset: noOffset, DiskType: typeFixed, CreatorHost: creatorHost, CreatorVer: version10,
		OriginalSize: uint64(t.Size), CurrentSize: uint64(t.Size), Geometry: geometryFor(t.Size), ID: t.Identifier,
	}
	copy(f.CreatorApp[:], creatorApp)
	if !t.Created.Before(epoch) {
		f.Timestamp = uint32(t.Created.Sub(epoch) / time.Second)
	}
	if t.Layout == fixed {
		return disk.CreateFlat(t, true, f.encode())
	}
	f.DataOffset, f.DiskType = footerSize, typeDynamic
	file, err := t.Folder.Create(t.Name)
	if err != nil {
		return nil, fmt.Errorf("creating %s: %w", t.Name, err)
	}
	w := &writer{target: t, file: file, footer: f}
	w.header = header{TableOffset: footerSize + headerSize, Entries: uint32((t.Size + defaultBlock - 1) / defaultBlock), BlockSize: defaultBlock}
	w.table = make([]uint32, w.header.Entries)
	for i := range w.table {
		w.table[i] = unused
	}
	w.end = int64(w.header.TableOffset) + w.tableSize()
	return w, nil
}

// dynamicSize is the length of a dynamic image: structures, and each stored block with its bitmap.
func dynamicSize(virtual int64, stored disk.Stored) int64 {
	blocks := (virtual + defaultBlock - 1) / defaultBlock
	return 2*footerSize + headerSize + 4*blocks + sectorSize + stored[defaultBlock]/defaultBlock*(defaultBlock+alignment)
}

// writer makes a dynamic image: footer copy, header, table, then blocks in the order in which they are first heard of.
type writer struct {
	target disk.Target
	file   storage.File
	footer footer
	header header
	done   bool

	mu    sync.Mutex
	table []uint32 // sector of each block's bitmap; at most 4 MiB, since the largest disk has 1,044,480 blocks
	end   int64    // of the last block
}

// tableSize is the length of the table, padded to a sector.
func (w *writer) tableSize() int64 {
	return (4*int64(w.header.Entries) + sectorSize - 1) / sectorSize * sectorSize
}

// Place gives the blocks of a range their place in the file.
func (w *writer) Place(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	for number := off / defaultBlock; number*defaultBlock < off+n; number++ {
		if _, err := w.block(number, true); err != nil {
			return err
		}
	}
	return nil
}

// block returns the file offset of a block's data. A block that has no place yet gets one, or 0 when make is false.
func (w *writer) block(number int64, make bool) (int64, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	bitmap := w.header.bitmapSize()
	if s := w.table[number]; s != unused {
		return int64(s)*sectorSize + bitmap, nil
	}
	if !make {
		return 0, nil
	}
	data := (w.end + bitmap + alignment - 1) / alignment * alignment
	ones := bytes.Repeat([]byte{0xff}, int(bitmap))
	if _, err := w.file.WriteAt(ones, data-bitmap); err != nil {
		return 0, fmt.Errorf("writing the bitmap of block %d: %w", number, err)
	}
	w.table[number] = uint32((data - bitmap) / sectorSize)
	w.end = data + defaultBlock
	return data, nil
}

func (w *writer) WriteAt(p []byte, off int64) (int, error) {
	if err := disk.CheckRange(off, int64(len(p)), w.target.Size); err != nil {
		return 0, err
	}
	done := 0
	for done < len(p) {
		at := off + int64(done)
		part := p[done:min(len(p), done+int(defaultBlock-at%defaultBlock))]
		data, err := w.block(at/defaultBlock, true)
		if err != nil {
			return done, err
		}
		n, err := w.file.WriteAt(part, data+at%defaultBlock)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// Zero leaves blocks that have no place without one: they read as zeros.
func (w *writer) Zero(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	zeros := make([]byte, min(n, defaultBlock))
	for n > 0 {
		part := min(n, defaultBlock-off%defaultBlock)
		data, err := w.block(off/defaultBlock, false)
		if err != nil {
			return err
		}
		if data != 0 {
			if _, err := w.file.WriteAt(zeros[:part], data+off%defaultBlock); err != nil {
				return err
			}
		}
		off, n = off+part, n-part
	}
	return nil
}

// Commit writes the structures around the blocks and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	table := bytes.Repeat([]byte{0xff}, int(w.tableSize()))
	for i, s := range w.table {
		binary.BigEndian.PutUint32(table[4*i:], s)
	}
	footer := w.footer.encode()
	for _, part := range []struct {
		what string
		b    []byte
		off  int64
	}{
		{"block allocation table", table, int64(w.header.TableOffset)},
		{"dynamic header", w.header.encode(), footerSize},
		{"footer", footer, w.end},
		{"copy of the footer", footer, 0},
	} {
		if _, err := w.file.WriteAt(part.b, part.off); err != nil {
			return fmt.Errorf("writing the %s of %s: %w", part.what, w.target.Name, err)
		}
	}
	if err := w.file.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.target.Name, err)
	}
	w.done = true
	return w.file.Close()
}

func (w *writer) Abort() error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.file.Close(), w.target.Folder.Remove(w.target.Name))
}

func (w *writer) Files() []string { return []string{w.target.Name} }
