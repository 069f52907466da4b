package ext

import (
	"cmp"
	"encoding/binary"
	"hash/crc32"
	"slices"
)

// span are blocks of the filesystem's own.
type span struct{ start, end int64 }

// own are the blocks of the filesystem's own structures, ascending: superblocks and their copies, group descriptors with room for more, bitmaps and
// tables of inodes; and what nobody reads: tables that were never used, and a journal that is empty.
func (v *volume) own() (all, spare []span, err error) {
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
			super := start
			if g == 0 {
				super = superAt / v.block
			}
			all = append(all, span{start, super + 1 + meta + reserved})
		}
		if of := g % per; g/per >= meta && (of == 0 || of == 1 || of == per-1) {
			all = append(all, span{start + backup, start + backup + 1})
		}
		d, err := v.descriptor(g)
		if err != nil {
			return nil, nil, err
		}
		for _, bitmap := range []int64{high(d, groupBitmap, groupBitmapHigh), high(d, groupInodeBitmap, groupInodeBitmapHigh)} {
			all = append(all, span{bitmap, bitmap + 1})
		}
		table := high(d, groupTable, tableHigh)
		end := table + (v.inodesPer*v.inodeSize+v.block-1)/v.block
		all = append(all, span{table, end})
		if begun := table + (v.inUse(g, d)*v.inodeSize+v.block-1)/v.block; begun < end {
			spare = append(spare, span{begun, end})
		}
	}
	journal, err := v.journal()
	return joined(all), joined(append(spare, journal...)), err
}

// journal are the blocks of a journal that is empty, but for the first one, which says so.
func (v *volume) journal() (all []span, err error) {
	number := uint64(v.u32(atJournal))
	if v.u32(atCompat)&compatJournal == 0 || v.incompat&incompatRecover != 0 || number == 0 {
		return nil, nil
	}
	pieces, err := v.Pieces(number)
	if err != nil || len(pieces) == 0 || pieces[0].Data != nil {
		return nil, err
	}
	head, err := v.read(pieces[0].At, superSize)
	if err != nil {
		return nil, err
	}
	var length int64
	for _, p := range pieces {
		length += p.Len
	}
	be := binary.BigEndian
	if be.Uint32(head) != journalMagic || be.Uint32(head[journalStart:]) != 0 || int64(be.Uint32(head[journalLength:]))*v.block != length {
		return nil, nil
	}
	for _, p := range pieces {
		if p.Off == 0 {
			p.At, p.Len = p.At+v.block, p.Len-v.block
		}
		if p.Len > 0 {
			all = append(all, span{p.At / v.block, (p.At + p.Len) / v.block})
		}
	}
	return all, err
}

// Facts of the head of a journal ("Journal", all of it big-endian): its mark, how many blocks it has, and where what is left in it begins.
const (
	journalMagic                = 0xc03b3998
	journalLength, journalStart = 16, 28
)

// sums is the polynomial of checksums.
var sums = crc32.MakeTable(crc32.Castagnoli)

// raw goes on with a checksum as the filesystem does, without turning it around.
func raw(sum uint32, b []byte) uint32 { return ^crc32.Update(^sum, sums, b) }

// agrees tells whether the checksum of a group descriptor is right.
func (v *volume) agrees(group int64, d []byte) bool {
	sum := raw(^uint32(0), v.super[atUUID:atUUID+16])
	if v.incompat&incompatSeed != 0 {
		sum = uint32(v.u32(atSeed))
	}
	sum = raw(raw(sum, le.AppendUint32(nil, uint32(group))), d[:groupSum])
	sum = raw(sum, make([]byte, 2))
	if len(d) > 32 {
		sum = raw(sum, d[groupSum+2:])
	}
	return uint16(sum) == le.Uint16(d[groupSum:])
}

// inUse is how many inodes of a group may have been used, from its first one on. What a descriptor says of that counts only where its checksum
// is right.
func (v *volume) inUse(group int64, d []byte) int64 {
	if v.ro&roSums == 0 || !v.agrees(group, d) {
		return v.inodesPer
	}
	if le.Uint16(d[groupFlags:])&groupNoInodes != 0 {
		return 0
	}
	unused := int64(le.Uint16(d[groupUnused:]))
	if len(d) >= 64 {
		unused |= int64(le.Uint16(d[groupUnusedHigh:])) << 16
	}
	return max(0, v.inodesPer-unused)
}

// joined sorts spans, and joins those that touch.
func joined(all []span) []span {
	slices.SortFunc(all, func(a, b span) int { return cmp.Compare(a.start, b.start) })
	out := all[:0]
	for _, s := range all {
		if n := len(out); n > 0 && s.start <= out[n-1].end {
			out[n-1].end = max(out[n-1].end, s.end)
			continue
		}
		out = append(out, s)
	}
	return out
}
