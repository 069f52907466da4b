// Package xfs reads XFS (XFS Algorithms & Data Structures, 3rd edition), of versions 4 and 5.
package xfs

import (
	"context"
	"encoding/binary"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

func init() { inspect.Register(open, "xfs") }

// Facts of the superblock ("Superblocks").
const (
	magic      = "XFSB"
	sectorSize = 512 // of a basic block, whatever the sectors are

	atBlockSize, atBlocks, atLogStart, atRoot = 4, 8, 48, 56
	atGroupBlocks, atGroups, atLogBlocks      = 84, 88, 96
	atVersion, atSector, atInodeSize          = 100, 102, 104
	atInodesShift, atGroupShift, atInProgress = 123, 124, 126
	atFree, atFolderShift, atFeatures         = 144, 192, 200
	atIncompat                                = 216

	moreTypes    = 0x200 // of the features of version 4: entries of folders have the type of what they name
	incompatType = 0x1   // likewise of version 5
	needsRepair  = 0x10
	incompatAll  = 0xff // of those that are known
)

// Facts of headers of groups and of the tree of what is free in them ("Allocation Group Structures").
const (
	groupMagic                          = "XAGF"
	groupLength, groupRoot, groupLevels = 12, 16, 28
	groupFree                           = 52
	freeMagic4, freeMagic5              = "ABTB", "AB3B"
	shortHeader4, shortHeader5          = 16, 56
	maxLevels                           = 12
)

// volume is an open filesystem.
type volume struct {
	r     io.ReaderAt
	size  int64 // of the range that it lies in
	super []byte

	block, blocks        int64 // bytes, count
	perGroup, groups     int64 // blocks, count
	groupShift           int
	inode                int64 // bytes
	inodesShift          int
	root                 uint64
	version              int
	folder               int64 // bytes of a block of a folder
	types                bool
	incompat             uint32
	logStart, logBlocks  int64
	shortHeader, longHdr int64
}

var be = binary.BigEndian

// open reads the superblock.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	b := make([]byte, sectorSize)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, err
	}
	if string(b[:4]) != magic {
		return nil, disk.Damaged("no mark of a superblock")
	}
	v := &volume{
		r: r, size: size, super: b, block: int64(be.Uint32(b[atBlockSize:])), blocks: int64(be.Uint64(b[atBlocks:])),
		perGroup: int64(be.Uint32(b[atGroupBlocks:])), groups: int64(be.Uint32(b[atGroups:])), groupShift: int(b[atGroupShift]),
		inode: int64(be.Uint16(b[atInodeSize:])), inodesShift: int(b[atInodesShift]), root: be.Uint64(b[atRoot:]),
		version: int(be.Uint16(b[atVersion:]) & 0xf), types: be.Uint32(b[atFeatures:])&moreTypes != 0,
		logStart: int64(be.Uint64(b[atLogStart:])), logBlocks: int64(be.Uint32(b[atLogBlocks:])),
		shortHeader: shortHeader4, longHdr: longHeader4,
	}
	if v.version == 5 {
		v.incompat = be.Uint32(b[atIncompat:])
		v.types, v.shortHeader, v.longHdr = v.incompat&incompatType != 0, shortHeader5, longHeader5
	}
	shift := int(b[atFolderShift])
	switch {
	case v.version != 4 && v.version != 5:
		return nil, disk.Unsupported("version %d of it", v.version)
	case v.incompat&^incompatAll != 0:
		return nil, disk.Unsupported("it has features that are not known here (%#x)", v.incompat&^incompatAll)
	case v.block < 512 || v.block > 64<<10 || v.block&(v.block-1) != 0:
		return nil, disk.Damaged("blocks of %d bytes", v.block)
	case v.blocks <= 0 || v.blocks > size/v.block:
		return nil, disk.Damaged("it has %d blocks of %d bytes in %d bytes", v.blocks, v.block, size)
	case v.perGroup <= 0 || v.groups <= 0 || v.groupShift > 32 || v.perGroup > 1<<v.groupShift || v.groups > (v.blocks+v.perGroup-1)/v.perGroup:
		return nil, disk.Damaged("%d groups of %d blocks", v.groups, v.perGroup)
	case v.inode < 256 || v.inode > 2048 || v.inode&(v.inode-1) != 0 || v.inode<<v.inodesShift != v.block:
		return nil, disk.Damaged("inodes of %d bytes", v.inode)
	case shift > 16 || v.block<<shift > 64<<10:
		return nil, disk.Damaged("blocks of folders of 2^%d blocks", shift)
	}
	v.folder = v.block << shift
	return v, nil
}

// About says how full it is. Its trees are the truth only when nothing is left in the journal.
func (v *volume) About() inspect.About {
	free := int64(be.Uint64(v.super[atFree:]))
	a := inspect.About{Size: v.blocks * v.block, Used: max(0, v.blocks-max(0, free)) * v.block}
	switch clean, err := v.clean(); {
	case err != nil:
		a.Doubt = err.Error()
	case v.super[atInProgress] != 0:
		a.Doubt = "it was not made to the end"
	case v.incompat&needsRepair != 0:
		a.Doubt = "it needs to be repaired"
	case !clean:
		a.Doubt = "it was not unmounted, and its journal has changes that its map does not"
	}
	return a
}

func (v *volume) read(at, n int64) ([]byte, error) {
	if at < 0 || n < 0 || at > v.size-n {
		return nil, disk.Damaged("something at %d, behind the end", at)
	}
	b := make([]byte, n)
	_, err := v.r.ReadAt(b, at)
	return b, err
}

// at is where a block lies that is named by its group and its place there.
func (v *volume) at(block uint64) (int64, error) {
	group, rest := int64(block>>v.groupShift), int64(block&(1<<v.groupShift-1))
	if group >= v.groups || rest >= v.perGroup || group*v.perGroup+rest >= v.blocks {
		return 0, disk.Damaged("the block %d of group %d of %d", rest, group, v.groups)
	}
	return (group*v.perGroup + rest) * v.block, nil
}

// Used tells what is not in the trees of free blocks.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	runs := inspect.NewRuns(each)
	sector := int64(be.Uint16(v.super[atSector:]))
	for g := range v.groups {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		start := g * v.perGroup
		b, err := v.read(start*v.block+sector, sectorSize)
		if err != nil {
			return err
		}
		length := int64(be.Uint32(b[groupLength:]))
		if string(b[:4]) != groupMagic || length > v.perGroup || length != min(v.perGroup, v.blocks-start) {
			return disk.Damaged("the header of group %d", g)
		}
		f := free{volume: v, group: start, length: length, add: func(from, to int64) error {
			if from == to {
				return nil
			}
			return runs.Add((start+from)*v.block, (to-from)*v.block)
		}}
		if err := f.tree(int64(be.Uint32(b[groupRoot:])), int(be.Uint32(b[groupLevels:]))-1); err != nil {
			return err
		}
		if want := int64(be.Uint32(b[groupFree:])); f.count != want {
			return disk.Damaged("group %d has %d free blocks in its tree, and says %d", g, f.count, want)
		}
		if err := f.add(f.end, length); err != nil {
			return err
		}
	}
	return runs.Flush()
}

// free walks the tree of free blocks of a group, and adds what is between them.
type free struct {
	*volume
	group, length int64 // its first block, and how many it has
	end           int64 // behind the last free one
	count         int64
	add           func(from, to int64) error
}

func (f *free) tree(block int64, level int) error {
	if level < 0 || level > maxLevels || block <= 0 || block >= f.length {
		return disk.Damaged("a tree of free blocks at block %d, level %d", block, level)
	}
	b, err := f.read((f.group+block)*f.block, f.block)
	if err != nil {
		return err
	}
	count, hdr := int64(be.Uint16(b[6:])), f.shortHeader
	if mark := string(b[:4]); mark != freeMagic4 && mark != freeMagic5 || int(be.Uint16(b[4:])) != level || count > (f.block-hdr)/8 {
		return disk.Damaged("a tree of free blocks with %d entries at level %d", count, level)
	}
	if level > 0 {
		pointers := hdr + (f.block-hdr)/12*8
		if count > (f.block-hdr)/12 {
			return disk.Damaged("a tree of free blocks with %d entries", count)
		}
		for i := range count {
			if err := f.tree(int64(be.Uint32(b[pointers+4*i:])), level-1); err != nil {
				return err
			}
		}
		return nil
	}
	for i := range count {
		first, n := int64(be.Uint32(b[hdr+8*i:])), int64(be.Uint32(b[hdr+8*i+4:]))
		if first < f.end || n <= 0 || first > f.length-n {
			return disk.Damaged("free blocks from %d on, %d of %d", first, n, f.length)
		}
		if err := f.add(f.end, first); err != nil {
			return err
		}
		f.end, f.count = first+n, f.count+n
	}
	return nil
}
