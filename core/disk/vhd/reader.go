package vhd

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

type reader struct {
	file     storage.File
	fileSize int64
	name     string
	footer   footer
	size     int64 // by the rule that was asked for
	other    int64 // by the other one, where they differ
	warnings []string

	// only in a dynamic or differencing disk
	header header
	tables *disk.Pages
	blocks *disk.Blocks

	base     disk.Reader // only in a differencing disk
	baseName string
}

func open(ctx context.Context, o disk.Origin) (disk.Reader, error) {
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return nil, err
	}
	r := &reader{file: file, name: o.Name}
	if err := r.load(ctx, o); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *reader) load(ctx context.Context, o disk.Origin) error {
	var err error
	if r.fileSize, err = r.file.Size(); err != nil {
		return err
	}
	if err := r.loadFooter(); err != nil {
		return err
	}
	size := r.footer.CurrentSize
	if size == 0 || size > largest || size%sectorSize != 0 {
		return disk.Damaged("a size of %d bytes is not a multiple of %d up to %d", size, sectorSize, int64(largest))
	}
	r.size = int64(size)
	if g := r.footer.Geometry; g.size() != r.size && g != (geometry{maxCylinders, maxHeads, maxSectors}) && r.size < largestCHS*sectorSize {
		r.other = g.size()
		r.warnings = append(r.warnings, fmt.Sprintf("the geometry gives %d bytes and the current size is %d: some hypervisors go by the "+
			"geometry and cut the disk there; a converted image has one size for all", r.other, r.size))
		if o.ByGeometry && r.other > 0 && r.other < r.size {
			r.size, r.other = r.other, r.size
		}
	}
	switch r.footer.DiskType {
	case typeFixed:
		if int64(size) > r.fileSize-footerSize+1 {
			return disk.Damaged("the file of %d bytes is too short for a disk of %d: it is truncated, fetch it again", r.fileSize, size)
		}
		return nil
	case typeDynamic:
		return r.loadTables()
	case typeDiffering:
		if err := r.loadTables(); err != nil {
			return err
		}
		return r.openParent(ctx, o)
	}
	return disk.Damaged("disk type %d does not exist", r.footer.DiskType)
}

// loadFooter takes the footer at the end, also one of the old length of 511 bytes, or else its copy at the start.
func (r *reader) loadFooter() error {
	if r.fileSize < footerSize {
		return disk.Damaged("the file of %d bytes is shorter than a footer", r.fileSize)
	}
	b := make([]byte, footerSize)
	var reasons []string
	for _, place := range []struct {
		off  int64
		len  int
		name string
	}{{r.fileSize - footerSize, footerSize, ""}, {r.fileSize - footerSize + 1, footerSize - 1, ""}, {0, footerSize, "the footer at the end is damaged or missing: its copy at the start is used"}} {
		clear(b)
		if err := disk.ReadFull(r.file, b[:place.len], place.off); err != nil {
			return err
		}
		f, err := decodeFooter(b)
		if err != nil {
			reasons = append(reasons, err.Error())
			continue
		}
		r.footer = f
		if place.name != "" {
			r.warnings = append(r.warnings, place.name)
		}
		return nil
	}
	return disk.Damaged("no whole footer at the end (%s) and no copy at the start (%s)", reasons[0], reasons[2])
}

func (r *reader) loadTables() error {
	if r.footer.DataOffset > uint64(r.fileSize) {
		return disk.Damaged("the dynamic header at offset %d lies behind the end of the file at %d", r.footer.DataOffset, r.fileSize)
	}
	b := make([]byte, headerSize)
	if err := disk.ReadFull(r.file, b, int64(r.footer.DataOffset)); err != nil {
		return fmt.Errorf("reading the dynamic header: %w", err)
	}
	var err error
	if r.header, err = decodeHeader(b); err != nil {
		return err
	}
	r.blocks = &disk.Blocks{File: r.file, Name: r.name, FileSize: r.fileSize, Size: r.Size(), Block: int64(r.header.BlockSize), Find: r.find}
	r.blocks.Holes = func(number int64) int64 { return r.tables.Run(int64(r.header.TableOffset)+4*number, 0xff) / 4 }
	if need := r.blocks.Count(); need > int64(r.header.Entries) {
		return disk.Damaged("the disk has %d blocks, but its table only %d entries", need, r.header.Entries)
	}
	if end := r.header.TableOffset + 4*uint64(r.blocks.Count()); r.header.TableOffset > uint64(r.fileSize) || end > uint64(r.fileSize) {
		return disk.Damaged("the block allocation table ends at %d, behind the end of the file at %d", end, r.fileSize)
	}
	r.tables = disk.NewPages(r.file, r.fileSize)
	return nil
}

// find returns the file offset of a block's data, behind its bitmap.
func (r *reader) find(number int64) (int64, disk.Kind, error) {
	var b [4]byte
	if _, err := r.tables.ReadAt(b[:], int64(r.header.TableOffset)+4*number); err != nil {
		return 0, disk.Hole, err
	}
	sector := binary.BigEndian.Uint32(b[:])
	if sector == unused {
		return 0, disk.Hole, nil
	}
	return int64(sector)*sectorSize + r.header.bitmapSize(), disk.Data, nil
}

// sectors reads the bitmap in front of a block, which tells for each sector whether it is stored; the first one has the
// highest bit ("Differencing Hard Disk Images"). It says nothing in a disk without a parent.
func (r *reader) sectors(number, in int64) (present bool, n int64, err error) {
	data, _, err := r.find(number)
	if err != nil {
		return false, 0, err
	}
	bitmap := make([]byte, int64(r.header.BlockSize)/sectorSize/8)
	if _, err := r.tables.ReadAt(bitmap, data-r.header.bitmapSize()); err != nil {
		return false, 0, fmt.Errorf("reading the bitmap of block %d: %w", number, err)
	}
	bit := func(sector int64) bool { return bitmap[sector/8]>>(7-sector%8)&1 != 0 }
	first := in / sectorSize
	last := first + 1
	for last < int64(len(bitmap))*8 && bit(last) == bit(first) {
		last++
	}
	return bit(first), last*sectorSize - in, nil
}

func (r *reader) Size() int64 { return r.size }

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	if r.blocks != nil {
		return r.blocks.ReadAt(p, off)
	}
	return disk.ReadRuns(p, off, r.Size(), func(p []byte, off int64) (int, error) {
		return len(p), disk.ReadFull(r.file, p, off)
	})
}

func (r *reader) Extent(off int64) (disk.Extent, error) {
	if r.blocks != nil {
		return r.blocks.Extent(off)
	}
	return disk.FileExtent(r.file, off, r.Size())
}

// Locate tells where a run lies.
func (r *reader) Locate(off int64) (disk.Place, error) {
	if r.blocks != nil {
		return r.blocks.Locate(off)
	}
	return disk.FilePiece{Name: r.name, Len: r.Size()}.Locate(off)
}

// Check walks the table; there is none in a fixed disk.
func (r *reader) Check(ctx context.Context) error {
	if r.blocks == nil {
		return nil
	}
	return r.blocks.Check(ctx, r.header.bitmapSize(), disk.Extent{Off: int64(r.header.TableOffset), Len: 4 * int64(r.header.Entries)})
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format:      "vhd",
		Layout:      fixed,
		Version:     "1.0",
		VirtualSize: r.Size(),
		OtherSize:   r.other,
		SectorSize:  sectorSize,
		Files:       []string{r.name},
		Warnings:    r.warnings,
		Creator:     storage.Printable(string(r.footer.CreatorApp[:])),
		Identifier:  uuid.UUID(r.footer.ID).String(),
	}
	if r.blocks != nil {
		d.Layout, d.BlockSize = dynamic, int64(r.header.BlockSize)
	}
	if r.base != nil {
		d.Layout = differencing
		d.StandOn(r.base, r.baseName)
	}
	return d
}

func (r *reader) Close() error {
	err := r.file.Close()
	if r.base != nil {
		err = errors.Join(err, r.base.Close())
	}
	return err
}
