package vhd

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"bagaglio/core/disk"
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
	w := &writer{
		footer: f,
		header: header{
			TableOffset: footerSize + headerSize,
			Entries:     uint32((t.Size + defaultBlock - 1) / defaultBlock),
			BlockSize:   defaultBlock,
		},
	}
	if t.Layout == differencing {
		if err := w.standOn(t, int64(w.header.TableOffset)); err != nil {
			return nil, err
		}
		w.header.TableOffset += uint64(len(w.locator)) // what lies right behind the table is free
	}
	structures := int64(w.header.TableOffset) + w.tableSize()
	bitmap := w.header.bitmapSize()
	first := (structures + bitmap + alignment - 1) / alignment * alignment
	var err error
	if w.BlockWriter, err = disk.NewBlockWriter(t, defaultBlock, first, defaultBlock+alignment); err != nil {
		return nil, err
	}
	ones := bytes.Repeat([]byte{0xff}, int(bitmap)) // also in a differencing disk: its blocks are stored whole
	w.free = structures
	w.Begin = func(off int64) error {
		if _, err := w.File.WriteAt(ones, off-bitmap); err != nil {
			return fmt.Errorf("writing the bitmap of a block: %w", err)
		}
		return nil
	}
	return w, nil
}

// dynamicSize is the length of a dynamic image: structures, and each stored block with its bitmap.
func dynamicSize(virtual int64, _ disk.Options, stored disk.Stored) int64 {
	blocks := (virtual + defaultBlock - 1) / defaultBlock
	return 2*footerSize + headerSize + 4*blocks + sectorSize + maxLocator + alignment + stored[defaultBlock]/defaultBlock*(defaultBlock+alignment)
}

// writer makes a dynamic or differencing image: footer copy, header, perhaps the locator of the parent, table, then each block
// behind its bitmap, and the footer.
type writer struct {
	*disk.BlockWriter
	footer  footer
	header  header
	locator []byte // of the parent, padded to a sector; only in a differencing disk
	free    int64  // file offset behind the table
}

// tableSize is the length of the table, padded to a sector.
func (w *writer) tableSize() int64 {
	return (4*int64(w.header.Entries) + sectorSize - 1) / sectorSize * sectorSize
}

// Commit writes the structures around the blocks and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	err := w.WriteTable(int64(w.header.TableOffset), binary.BigEndian, func(off int64) uint32 {
		if off < 0 {
			return unused
		}
		return uint32((off - w.header.bitmapSize()) / sectorSize)
	})
	if err != nil {
		return err
	}
	end := int64(w.header.TableOffset) + 4*w.Count()
	padding := bytes.Repeat([]byte{0xff}, int(w.tableSize()-4*w.Count()))
	footer, last := w.footer.encode(), w.End()
	if w.Stored() == 0 { // a hypervisor puts its first block there, and would leave a footer that lies further back inside of it
		last = w.free
	}
	return w.Finish(last+footerSize,
		disk.Part{What: "end of the table", Bytes: padding, Off: end},
		disk.Part{What: "parent locator", Bytes: w.locator, Off: footerSize + headerSize},
		disk.Part{What: "dynamic header", Bytes: w.header.encode(), Off: footerSize},
		disk.Part{What: "footer", Bytes: footer, Off: last},
		disk.Part{What: "copy of the footer", Bytes: footer, Off: 0})
}
