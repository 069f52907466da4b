// Package fat reads FAT12, FAT16 and FAT32 (Microsoft Extensible Firmware Initiative FAT32 File System Specification 1.03).
package fat

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

func init() { inspect.Register(open, "fat12", "fat16", "fat32") }

// Facts of the boot sector ("Boot Sector and BPB").
const (
	atSector, atCluster, atReserved = 11, 13, 14
	atFATs, atRootEntries           = 16, 17
	atTotal16, atFATSize16          = 19, 22
	atTotal32, atFATSize32          = 32, 36
	atRootCluster                   = 44

	max12, max16, max32 = 4084, 65524, 0x0ffffff5 // clusters of each type
	entrySize           = 32
)

// Facts of the table ("FAT Data Structure"): the mark of bad clusters by type, and of the second entry, what tells that it was unmounted and
// found no errors.
var kinds = map[int]struct{ bad, clean uint32 }{
	12: {bad: 0xff7},
	16: {bad: 0xfff7, clean: 0xc000},
	32: {bad: 0x0ffffff7, clean: 0x0c000000},
}

// volume is an open filesystem.
type volume struct {
	r                  io.ReaderAt
	size               int64
	bits               int   // of an entry of the table
	cluster            int64 // bytes
	table, tableSize   int64 // offset of the first one, bytes
	root, rootSize     int64 // offset and bytes, where it has a place of its own
	data, clusters     int64 // offset, count
	rootCluster, total int64
}

var le = binary.LittleEndian

// open reads the boot sector.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, err
	}
	u16 := func(at int) int64 { return int64(le.Uint16(b[at:])) }
	either := func(small, large int) int64 {
		if n := u16(small); n != 0 {
			return n
		}
		return int64(le.Uint32(b[large:]))
	}
	sector, perCluster := u16(atSector), int64(b[atCluster])
	if sector < 512 || sector > 4096 || sector&(sector-1) != 0 || perCluster == 0 || perCluster&(perCluster-1) != 0 {
		return nil, disk.Damaged("sectors of %d bytes, clusters of %d", sector, perCluster)
	}
	v := &volume{r: r, size: size, cluster: sector * perCluster, total: either(atTotal16, atTotal32) * sector}
	v.table, v.tableSize = u16(atReserved)*sector, either(atFATSize16, atFATSize32)*sector
	v.root = v.table + int64(b[atFATs])*v.tableSize
	v.rootSize = (u16(atRootEntries)*entrySize + sector - 1) / sector * sector
	v.data = v.root + v.rootSize
	if v.table == 0 || v.tableSize == 0 || b[atFATs] == 0 || v.total > size || v.data >= v.total {
		return nil, disk.Damaged("its tables end at %d of %d bytes, and it has %d", v.data, v.total, size)
	}
	v.clusters = (v.total - v.data) / v.cluster
	switch {
	case v.clusters <= max12:
		v.bits = 12
	case v.clusters <= max16:
		v.bits = 16
	default:
		v.bits, v.rootCluster = 32, int64(le.Uint32(b[atRootCluster:]))
	}
	if v.clusters > max32 || (v.clusters+2)*int64(v.bits) > v.tableSize*8 {
		return nil, disk.Damaged("%d clusters in a table of %d bytes", v.clusters, v.tableSize)
	}
	return v, nil
}

// entry reads that of a cluster from the table.
func (v *volume) entry(cluster int64) (uint32, error) {
	b := make([]byte, v.bits/4) // of two entries
	even := cluster &^ 1
	if n := v.tableSize - even*int64(v.bits)/8; n < int64(len(b)) {
		b = b[:n]
	}
	if _, err := v.r.ReadAt(b, v.table+even*int64(v.bits)/8); err != nil {
		return 0, err
	}
	return v.in(b, cluster%2), nil
}

// About says how full it is.
func (v *volume) About() inspect.About {
	a := inspect.About{Size: v.total, Used: v.data}
	err := v.taken(context.Background(), func(int64, uint32) error { a.Used += v.cluster; return nil })
	second, secondErr := v.entry(1)
	switch err := errors.Join(err, secondErr); {
	case err != nil:
		a.Doubt = err.Error()
	case second&kinds[v.bits].clean != kinds[v.bits].clean:
		a.Doubt = "it was not unmounted, or has errors on record"
	}
	return a
}

// tablePart is how much of the table is read at once, in bytes: entries of all types fill it.
const tablePart = 96 << 10

// taken calls each with the clusters that are not free, and their entries.
func (v *volume) taken(ctx context.Context, each func(cluster int64, entry uint32) error) error {
	b := make([]byte, tablePart)
	for first := int64(0); first < v.clusters+2; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		off := first * int64(v.bits) / 8
		part := b[:min(int64(len(b)), v.tableSize-off)]
		if _, err := v.r.ReadAt(part, v.table+off); err != nil {
			return err
		}
		count := min(int64(len(part))*8/int64(v.bits), v.clusters+2-first)
		for i := range count {
			e := v.in(part, i)
			if first+i < 2 || e == 0 {
				continue
			}
			if err := each(first+i, e); err != nil {
				return err
			}
		}
		first += count
	}
	return nil
}

// in is an entry of a part of the table that begins with an even one.
func (v *volume) in(part []byte, i int64) uint32 {
	switch v.bits {
	case 12:
		at := i * 3 / 2
		return uint32(le.Uint16(part[at:])) >> (4 * (i % 2)) & 0xfff
	case 16:
		return uint32(le.Uint16(part[2*i:]))
	}
	return le.Uint32(part[4*i:]) & 0x0fffffff
}

// Used tells its tables, and each cluster that is not free. Bad ones are nobody's.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	runs := inspect.NewRuns(each)
	if err := runs.Add(0, v.data); err != nil {
		return err
	}
	err := v.taken(ctx, func(cluster int64, e uint32) error {
		if e == kinds[v.bits].bad {
			return nil
		}
		return runs.Add(v.at(cluster), v.cluster)
	})
	if err != nil {
		return err
	}
	return runs.Flush()
}

func (v *volume) at(cluster int64) int64 { return v.data + (cluster-2)*v.cluster }

// chain returns where the clusters from one on lie, no more than are needed for so many bytes; with less than zero, all.
func (v *volume) chain(cluster, size int64) (all []inspect.Piece, err error) {
	for off, n := int64(0), int64(0); size < 0 || off < size; n++ {
		if cluster < 2 || cluster >= v.clusters+2 || n > v.clusters {
			if size < 0 && uint32(cluster) > kinds[v.bits].bad {
				return all, nil
			}
			return nil, disk.Damaged("a chain of clusters leads to %d of %d", cluster, v.clusters)
		}
		length := v.cluster
		if size >= 0 {
			length = min(length, size-off)
		}
		if last := len(all) - 1; last >= 0 && all[last].At+all[last].Len == v.at(cluster) {
			all[last].Len += length
		} else {
			all = append(all, inspect.Piece{Off: off, Len: length, At: v.at(cluster)})
		}
		off += length
		next, err := v.entry(cluster)
		if err != nil {
			return nil, fmt.Errorf("the table of clusters: %w", err)
		}
		cluster = int64(next)
	}
	return all, nil
}
