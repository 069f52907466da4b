// Package ext reads ext2, ext3 and ext4 (the kernel's documentation of ext4's data structures and algorithms).
package ext

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

func init() { inspect.Register(open, "ext2", "ext3", "ext4") }

// Facts of the superblock ("The Super Block"): where fields are in it, and bits of features.
const (
	superAt   = 1024
	superSize = 1024
	magic     = 0xef53

	atInodes, atBlocks, atFree      = 0x0, 0x4, 0xc
	atFirstBlock, atBlockShift      = 0x14, 0x18
	atClusterShift                  = 0x1c
	atPerGroup, atInodesPerGroup    = 0x20, 0x28
	atClustersPerGroup              = 0x24
	atMagic, atState, atRevision    = 0x38, 0x3a, 0x4c
	atInodeSize                     = 0x58
	atCompat, atIncompat, atROWhile = 0x5c, 0x60, 0x64
	atReservedGDT                   = 0xce
	atUUID                          = 0x68
	atJournal, atDescSize           = 0xe0, 0xfe
	atSeed                          = 0x270
	atFirstMeta                     = 0x104
	atBlocksHigh, atFreeHigh        = 0x150, 0x158
	atBackups                       = 0x24c

	stateClean, stateErrors = 0x1, 0x2

	compatJournal = 0x4
	compatSparse2 = 0x200

	incompatFileType = 0x2
	incompatRecover  = 0x4
	incompatJournal  = 0x8 // the device is a journal only
	incompatMetaBG   = 0x10
	incompatExtents  = 0x40
	incompat64       = 0x80
	incompatSeed     = 0x2000
	incompatInline   = 0x8000
	incompatEncrypt  = 0x10000
	incompatKnown    = 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000

	roSparse   = 0x1
	roBigalloc = 0x200
	roSums     = 0x400 // groups have checksums (CRC-32C), and tell what of their tables was never used
)

// Facts of group descriptors ("Block Group Descriptors").
const (
	groupBitmap, groupTable, groupFlags              = 0x0, 0x8, 0x12
	groupInodeBitmap                                 = 0x4
	groupBitmapHigh, groupInodeBitmapHigh, tableHigh = 0x20, 0x24, 0x28
	groupUnused, groupUnusedHigh                     = 0x1c, 0x32 // inodes at the end of its table that were never used
	groupSum                                         = 0x1e
	groupNoInodes                                    = 0x1 // none was
	groupNoBitmap                                    = 0x2 // it was never written: all but its metadata is free
)

const (
	rootInode     = 2
	maxBlockShift = 6       // 64 KiB
	maxGroups     = 1 << 20 // of 128 TiB, in groups as they are made
)

// volume is an open filesystem.
type volume struct {
	r     io.ReaderAt
	size  int64 // of the range that it lies in
	super []byte

	block, cluster      int64 // bytes
	blocks, free, first int64 // in blocks
	perGroup            int64 // blocks
	inodes, inodesPer   int64
	inodeSize, descSize int64
	groups              int64
	incompat, ro        uint32
}

var le = binary.LittleEndian

func (v *volume) u16(at int) int64 { return int64(le.Uint16(v.super[at:])) }
func (v *volume) u32(at int) int64 { return int64(le.Uint32(v.super[at:])) }

// open reads the superblock.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	v := &volume{r: r, size: size, super: make([]byte, superSize)}
	if _, err := r.ReadAt(v.super, superAt); err != nil {
		return nil, err
	}
	v.incompat, v.ro = uint32(v.u32(atIncompat)), uint32(v.u32(atROWhile))
	shift, clusterShift := v.u32(atBlockShift), v.u32(atClusterShift)
	switch {
	case v.u16(atMagic) != magic:
		return nil, disk.Damaged("no mark of a superblock")
	case shift > maxBlockShift:
		return nil, disk.Damaged("blocks of 2^%d KiB", shift)
	case v.incompat&incompatJournal != 0:
		return nil, disk.Unsupported("it is only the journal of another filesystem")
	case v.incompat&^incompatKnown != 0:
		return nil, disk.Unsupported("it has features that are not known here (%#x)", v.incompat&^incompatKnown)
	}
	v.block = 1024 << shift
	v.cluster = v.block
	if v.ro&roBigalloc != 0 {
		if clusterShift < shift || clusterShift > 20 {
			return nil, disk.Damaged("clusters of 2^%d KiB", clusterShift)
		}
		v.cluster = 1024 << clusterShift
	}
	v.blocks, v.free, v.first = v.u32(atBlocks), v.u32(atFree), v.u32(atFirstBlock)
	v.descSize, v.inodeSize = 32, 128
	if v.u32(atRevision) > 0 {
		v.inodeSize = v.u16(atInodeSize)
	}
	if v.incompat&incompat64 != 0 {
		v.blocks |= v.u32(atBlocksHigh) << 32
		v.free |= v.u32(atFreeHigh) << 32
		v.descSize = v.u16(atDescSize)
	}
	v.perGroup, v.inodes, v.inodesPer = v.u32(atPerGroup), v.u32(atInodes), v.u32(atInodesPerGroup)
	switch {
	case v.blocks <= 0 || v.blocks > size/v.block || v.first >= v.blocks:
		return nil, disk.Damaged("it has %d blocks of %d bytes in %d bytes", v.blocks, v.block, size)
	case v.perGroup < 8 || v.perGroup/(v.cluster/v.block) > 8*v.block:
		return nil, disk.Damaged("groups of %d blocks", v.perGroup)
	case v.inodesPer < 1 || v.inodesPer > 8*v.block || v.inodeSize < 128 || v.inodeSize > v.block || v.inodeSize&(v.inodeSize-1) != 0:
		return nil, disk.Damaged("%d inodes of %d bytes in a group", v.inodesPer, v.inodeSize)
	case v.descSize < 32 || v.descSize > v.block || v.descSize&(v.descSize-1) != 0:
		return nil, disk.Damaged("group descriptors of %d bytes", v.descSize)
	}
	if v.groups = (v.blocks - v.first + v.perGroup - 1) / v.perGroup; v.groups > maxGroups {
		return nil, disk.Unsupported("%d groups of blocks", v.groups)
	}
	return v, nil
}

// About says how full it is. Its bitmaps are the truth only when nothing is left in the journal, and no error is on record.
func (v *volume) About() inspect.About {
	a := inspect.About{Size: v.blocks * v.block, Used: max(0, v.blocks-v.free) * v.block}
	state := v.u16(atState)
	switch {
	case v.incompat&incompatRecover != 0:
		a.Doubt = "it was not unmounted, and its journal has changes that its map does not"
	case state&stateErrors != 0:
		a.Doubt = "it has errors on record"
	case state&stateClean == 0:
		a.Doubt = "it was not unmounted"
	}
	return a
}

func (v *volume) read(at int64, n int64) ([]byte, error) {
	if at < 0 || at > v.size-n {
		return nil, disk.Damaged("something at %d, behind the end", at)
	}
	b := make([]byte, n)
	_, err := v.r.ReadAt(b, at)
	return b, err
}

// descriptor reads that of a group.
func (v *volume) descriptor(group int64) ([]byte, error) {
	if group < 0 || group >= v.groups {
		return nil, disk.Damaged("group %d of %d", group, v.groups)
	}
	per := v.block / v.descSize
	table := group / per
	at := superAt/v.block + 1 + table
	if v.incompat&incompatMetaBG != 0 && table >= v.u32(atFirstMeta) {
		at = v.groupStart(table * per)
		if v.hasBackup(table * per) {
			at++
		}
		if table == 0 { // where the superblock is not in the first block of its group
			at = superAt/v.block + 1
		}
	}
	return v.read(at*v.block+group%per*v.descSize, v.descSize)
}

func (v *volume) groupStart(group int64) int64 { return v.first + group*v.perGroup }

// hasBackup tells whether a group begins with a copy of the superblock.
func (v *volume) hasBackup(group int64) bool {
	if group <= 1 && v.u32(atCompat)&compatSparse2 == 0 || group == 0 {
		return true
	}
	if v.u32(atCompat)&compatSparse2 != 0 {
		return group == v.u32(atBackups) || group == v.u32(atBackups+4)
	}
	if v.ro&roSparse == 0 {
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

func high(d []byte, low, high int) int64 {
	n := int64(le.Uint32(d[low:]))
	if len(d) >= 64 {
		n |= int64(le.Uint32(d[high:])) << 32
	}
	return n
}

// Used tells what the bitmaps have, and what belongs to the filesystem itself, which the bitmap of a group that was never written leaves out.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	own, spare, err := v.own()
	if err != nil {
		return err
	}
	runs := inspect.NewRuns(each)
	if v.first > 0 { // boot code, which no bitmap has
		if err := runs.Add(0, v.first*v.block); err != nil {
			return err
		}
	}
	var counted int64
	for g := range v.groups {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		start := v.groupStart(g)
		n := min(v.perGroup, v.blocks-start)
		used, err := v.bitmap(g)
		if err != nil {
			return err
		}
		for ; len(own) > 0 && own[0].start < start+n; own = own[1:] {
			for b := max(own[0].start, start); b < min(own[0].end, start+n); b++ {
				at := (b - start) * v.block / v.cluster
				used[at/8] |= 1 << (at % 8)
			}
			if own[0].end > start+n { // it goes on in the next group
				break
			}
		}
		per := v.cluster / v.block
		units := (n + per - 1) / per
		counted += ones(used, units) * per
		if last := units - 1; used[last/8]&(1<<(last%8)) != 0 { // which may be in part
			counted -= units*per - n
		}
		for ; len(spare) > 0 && spare[0].start < start+n; spare = spare[1:] {
			for b := max(spare[0].start, start); b < min(spare[0].end, start+n) && per == 1; b++ {
				used[(b-start)/8] &^= 1 << ((b - start) % 8)
			}
			if spare[0].end > start+n {
				break
			}
		}
		for at := int64(0); at*per < n; {
			if at%8 == 0 && used[at/8] == 0 {
				at += 8
				continue
			}
			if used[at/8]&(1<<(at%8)) == 0 {
				at++
				continue
			}
			first := at
			for at*per < n && used[at/8]&(1<<(at%8)) != 0 {
				at++
			}
			length := min(at*per, n) - first*per
			if err := runs.Add((start+first*per)*v.block, length*v.block); err != nil {
				return err
			}
		}
	}
	if want := v.blocks - v.free - v.first; counted != want && v.About().Doubt == "" {
		return disk.Damaged("its bitmaps have %d used blocks, and its superblock %d", counted, want)
	}
	return runs.Flush()
}

// ones counts the bits that are set, of the first n.
func ones(b []byte, n int64) (count int64) {
	for _, x := range b[:n/8] {
		count += int64(bits.OnesCount8(x))
	}
	if n%8 > 0 {
		count += int64(bits.OnesCount8(b[n/8] & (1<<(n%8) - 1)))
	}
	return count
}

// bitmap is that of a group.
func (v *volume) bitmap(group int64) ([]byte, error) {
	d, err := v.descriptor(group)
	if err != nil {
		return nil, err
	}
	if le.Uint16(d[groupFlags:])&groupNoBitmap != 0 {
		return make([]byte, v.block), nil
	}
	b, err := v.read(high(d, groupBitmap, groupBitmapHigh)*v.block, v.block)
	if err != nil {
		return nil, fmt.Errorf("the map of group %d: %w", group, err)
	}
	return b, nil
}
