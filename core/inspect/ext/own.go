package ext

import (
	"cmp"
	"slices"
)

// span are blocks of the filesystem's own.
type span struct{ start, end int64 }

// own are the blocks of the filesystem's own structures, ascending: superblocks and their copies, group descriptors with room for more, bitmaps and
// tables of inodes.
func (v *volume) own() (all []span, err error) {
	per := v.block / v.descSize
	tables := (v.groups + per - 1) / per // blocks of descriptors
	meta := tables                       // the first that lies with its groups
	reserved := v.u16(atReservedGDT)
	if v.incompat&incompatMetaBG != 0 {
		meta, reserved = min(tables, v.u32(atFirstMeta)), 0
	}
	for g := range v.groups {
		start, backup := v.groupStart(g), int64(0)
		if v.hasBackup(g) {
			backup = 1
			all = append(all, span{start, start + 1 + meta + reserved})
		}
		if of := g % per; g/per >= meta && (of == 0 || of == 1 || of == per-1) {
			all = append(all, span{start + backup, start + backup + 1})
		}
		d, err := v.descriptor(g)
		if err != nil {
			return nil, err
		}
		for _, bitmap := range []int64{high(d, groupBitmap, groupBitmapHigh), high(d, groupInodeBitmap, groupInodeBitmapHigh)} {
			all = append(all, span{bitmap, bitmap + 1})
		}
		table := high(d, groupTable, tableHigh)
		all = append(all, span{table, table + (v.inodesPer*v.inodeSize+v.block-1)/v.block})
	}
	slices.SortFunc(all, func(a, b span) int { return cmp.Compare(a.start, b.start) })
	joined := all[:0]
	for _, s := range all {
		if n := len(joined); n > 0 && s.start <= joined[n-1].end {
			joined[n-1].end = max(joined[n-1].end, s.end)
			continue
		}
		joined = append(joined, s)
	}
	return joined, nil
}
