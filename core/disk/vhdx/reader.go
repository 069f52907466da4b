package vhdx

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

type reader struct {
	disk.Blocks
	metadata
	header   header
	baseName string
	name     string
	creator  string
	dirty    bool
	warnings []string
	tables   *disk.Pages
	bat      region
	taken    []disk.Extent // by structures
	ratio    int64
}

func open(ctx context.Context, o disk.Origin) (disk.Reader, error) {
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return nil, err
	}
	r := &reader{name: o.Name, taken: []disk.Extent{{Off: 0, Len: mib}}}
	if err := r.load(file); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	if r.parent != nil {
		if err := r.openParent(ctx, o); err != nil {
			return nil, errors.Join(err, r.Close())
		}
	}
	return r, nil
}

func (r *reader) load(file storage.File) error {
	size, err := file.Size()
	if err != nil {
		return err
	}
	first := make([]byte, 8+512)
	if err := disk.ReadFull(file, first, 0); err != nil {
		return fmt.Errorf("reading the file's signature: %w", err)
	}
	if string(first[:8]) != fileSignature {
		return disk.Damaged("the file's signature is missing")
	}
	r.creator = storage.Printable(text16(first[8:]))
	if r.header, err = r.currentHeader(file); err != nil {
		return err
	}
	patched, size, err := r.replay(file, r.header, size)
	if err != nil {
		return fmt.Errorf("replaying the log: %w", err)
	}
	regions, err := r.regions(patched)
	if err != nil {
		return err
	}
	if err := r.place(regions, uint64(size)); err != nil {
		return err
	}
	if err := r.loadMetadata(patched, regions); err != nil {
		return fmt.Errorf("reading the metadata: %w", err)
	}
	r.ratio = chunkRatio(int64(r.logical), int64(r.block))
	r.tables = disk.NewPages(patched, size)
	r.Blocks = disk.Blocks{File: patched, Name: r.name, FileSize: size, Size: int64(r.size), Block: int64(r.block), Find: r.find}
	// An entry of zeros is a block that is not there; the entries of sector bitmaps between are stepped over one by one.
	r.Holes = func(number int64) int64 {
		return min(r.tables.Run(int64(r.bat.offset)+8*entryOf(number, r.ratio), 0)/8, r.ratio-number%r.ratio)
	}
	if r.flags&leaveBlocks != 0 && r.header.log == uuid.Nil {
		r.Thick = file
	}
	if need := 8 * entries(r.Count(), r.ratio, r.parent != nil); need > int64(r.bat.length) {
		return disk.Damaged("the block allocation table has %d bytes and the disk needs %d", r.bat.length, need)
	}
	return nil
}

// currentHeader is the whole one of the two with the higher sequence number (2.2.2).
func (r *reader) currentHeader(file storage.File) (header, error) {
	var current header
	found := 0
	for _, at := range []int64{headerAt1, headerAt2} {
		b := make([]byte, headerSize)
		if err := disk.ReadFull(file, b, at); err != nil {
			return current, fmt.Errorf("reading a header: %w", err)
		}
		h, ok := decodeHeader(b)
		if !ok {
			continue
		}
		if found++; found == 1 || h.sequence > current.sequence {
			current = h
		}
	}
	switch {
	case found == 0:
		return current, disk.Damaged("neither header is whole")
	case current.version != version:
		return current, disk.Unsupported("version %d of the format", current.version)
	case current.logVersion != 0:
		return current, disk.Unsupported("version %d of the log", current.logVersion)
	case found == 1:
		r.warnings = append(r.warnings, "one of the two headers is damaged: the other one is used")
	}
	return current, nil
}

// regions reads the first whole one of the two region tables (2.2.3).
func (r *reader) regions(file storage.File) ([]region, error) {
	for i, at := range []int64{regionAt1, regionAt2} {
		b := make([]byte, regionSize)
		if err := disk.ReadFull(file, b, at); err != nil {
			return nil, fmt.Errorf("reading a region table: %w", err)
		}
		if regions, ok := decodeRegions(b); ok {
			if i > 0 {
				r.warnings = append(r.warnings, "the first region table is damaged: the second one is used")
			}
			return regions, nil
		}
	}
	return nil, disk.Damaged("neither region table is whole")
}

// place checks that every region that is needed is known and lies in the file, and that no two lie over each other.
func (r *reader) place(regions []region, size uint64) error {
	for _, g := range regions {
		known := g.id == regionBAT || g.id == regionMetadata
		if !known && g.required {
			return disk.Unsupported("the image needs an unknown region %s", g.id)
		}
		if g.offset < mib || g.offset%mib != 0 || g.length == 0 || g.length%mib != 0 {
			return disk.Damaged("a region of %d bytes at offset %d is not on whole MiB behind the headers", g.length, g.offset)
		}
		if known && (g.offset > size || uint64(g.length) > size-g.offset) {
			return disk.Damaged("a region of %d bytes at offset %d lies behind the end of the file at %d", g.length, g.offset, size)
		}
		if g.offset > largest*2 {
			continue // an unknown one, somewhere
		}
		e := disk.Extent{Off: int64(g.offset), Len: int64(g.length)}
		for _, t := range r.taken {
			if e.Off < t.End() && t.Off < e.End() {
				return disk.Damaged("the region at offset %d lies over another structure", g.offset)
			}
		}
		r.taken = append(r.taken, e)
	}
	i := slices.IndexFunc(regions, func(g region) bool { return g.id == regionBAT })
	if i < 0 {
		return disk.Damaged("there is no block allocation table")
	}
	r.bat = regions[i]
	return nil
}

// loadMetadata reads the items of 2.6.
func (r *reader) loadMetadata(file storage.File, regions []region) error {
	i := slices.IndexFunc(regions, func(g region) bool { return g.id == regionMetadata })
	if i < 0 {
		return disk.Damaged("there is no metadata region")
	}
	at := regions[i]
	table := make([]byte, tableSize)
	if err := disk.ReadFull(file, table, int64(at.offset)); err != nil {
		return err
	}
	le := binary.LittleEndian
	count := le.Uint16(table[10:])
	if string(table[:8]) != tableMark || count > maxItems {
		return disk.Damaged("the metadata table's mark or count is wrong")
	}
	values := map[uuid.UUID][]byte{}
	for i := range int(count) {
		e := table[32+32*i:][:32]
		id, offset, length, flags := guid(e), le.Uint32(e[16:]), le.Uint32(e[20:]), le.Uint32(e[24:])
		if length > mib || uint64(offset)+uint64(length) > uint64(at.length) {
			return disk.Damaged("an item of %d bytes at offset %d lies outside of the region", length, offset)
		}
		if !slices.Contains([]uuid.UUID{itemParameters, itemSize, itemID, itemLogical, itemPhysical, itemLocator}, id) {
			if flags&itemRequired != 0 {
				return disk.Unsupported("the image needs an unknown metadata item %s", id)
			}
			continue
		}
		value := make([]byte, max(length, 16)) // a short one reads as zeros
		if err := disk.ReadFull(file, value[:length], int64(at.offset)+int64(offset)); err != nil {
			return err
		}
		values[id] = value
	}
	for id, name := range map[uuid.UUID]string{itemParameters: "file parameters", itemSize: "virtual disk size", itemLogical: "logical sector size"} {
		if values[id] == nil {
			return disk.Damaged("the item %q is missing", name)
		}
	}
	r.metadata = metadata{
		block: le.Uint32(values[itemParameters]), flags: le.Uint32(values[itemParameters][4:]), size: le.Uint64(values[itemSize]),
		logical: le.Uint32(values[itemLogical]), physical: le.Uint32(values[itemLogical]),
	}
	if b := values[itemID]; b != nil {
		r.id = guid(b)
	}
	if b := values[itemPhysical]; b != nil {
		r.physical = le.Uint32(b)
	}
	if err := r.validate(); err != nil || r.flags&hasParent == 0 {
		return err
	}
	if values[itemLocator] == nil {
		return disk.Damaged("the disk stands on a parent, but does not name it")
	}
	var err error
	r.parent, err = decodeLocator(values[itemLocator])
	return err
}

// validate bounds every value before anything is computed from it.
func (m metadata) validate() error {
	switch {
	case m.block < smallestBlock || m.block > largestBlock || m.block&(m.block-1) != 0:
		return disk.Damaged("a block size of %d bytes is not a power of two from %d to %d", m.block, smallestBlock, largestBlock)
	case m.logical != 512 && m.logical != 4096:
		return disk.Damaged("a logical sector size of %d bytes is neither 512 nor 4096", m.logical)
	case m.size == 0 || m.size > largest || m.size%uint64(m.logical) != 0:
		return disk.Damaged("a size of %d bytes is not a multiple of %d up to %d", m.size, m.logical, int64(largest))
	}
	return nil
}

// find reads the entry of a payload block (2.5.1).
func (r *reader) find(number int64) (int64, disk.Kind, error) {
	var b [8]byte
	if _, err := r.tables.ReadAt(b[:], int64(r.bat.offset)+8*entryOf(number, r.ratio)); err != nil {
		return 0, disk.Hole, err
	}
	entry := binary.LittleEndian.Uint64(b[:])
	switch state := entry & stateMask; state {
	case statePresent:
		return int64(entry & offsetMask), disk.Data, nil
	case stateZero:
		return 0, disk.Zero, nil
	case stateNotPresent:
		return 0, disk.Hole, nil
	case stateUndefined, stateUnmapped: // not the parent's either
		return 0, disk.Zero, nil
	case statePartially:
		if r.parent != nil {
			return int64(entry & offsetMask), disk.Data, nil
		}
		fallthrough
	default:
		return 0, disk.Hole, disk.Damaged("block %d is in state %d, which a disk without a parent does not have", number, state)
	}
}

func (r *reader) Size() int64 { return r.Blocks.Size }

// Check walks the table.
func (r *reader) Check(ctx context.Context) error { return r.Blocks.Check(ctx, 0, r.taken...) }

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format: "vhdx", Layout: dynamic, Version: "1", Creator: r.creator, Identifier: r.id.String(), VirtualSize: r.Size(),
		BlockSize: r.Block, SectorSize: int64(r.logical), Files: []string{r.name}, Dirty: r.dirty, Warnings: r.warnings,
	}
	if r.flags&leaveBlocks != 0 {
		d.Layout = fixed
	}
	if r.Base != nil {
		d.Layout = differencing
		d.StandOn(r.Base, r.baseName)
	}
	if r.dirty {
		d.Warnings = append(d.Warnings, "the machine was cut off: the image has a log, which is taken into account; the file is not changed")
	}
	return d
}
