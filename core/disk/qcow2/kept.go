package qcow2

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"bagaglio/core/disk"
)

// maxCounted bounds the clusters of an image whose owners are told apart, each of which takes four bytes of memory: 4 TiB in clusters of 64 KiB.
const maxCounted = 1 << 26

// several is the owner of a cluster that several states use.
const several = -1

// owners notes which state uses each cluster of the file: 0 for none, 1 for the present one, n+2 for the snapshot n.
type owners struct {
	clusterBits uint64
	of          []int32
}

func (o *owners) take(at, n uint64, by int32) {
	for c := at >> o.clusterBits; n > 0 && c <= (at+n-1)>>o.clusterBits && c < uint64(len(o.of)); c++ {
		switch o.of[c] {
		case 0:
			o.of[c] = by
		case by:
		default:
			o.of[c] = several
		}
	}
}

// Kept returns the snapshots, each with the room of the clusters that no other state of the disk uses, its memory included.
func (r *reader) Kept(ctx context.Context) ([]disk.Kept, error) {
	clusters := (r.fileSize + int64(r.cluster()) - 1) / int64(r.cluster())
	if clusters > maxCounted {
		return nil, fmt.Errorf("telling the snapshots of %d clusters apart: %w", clusters, errors.ErrUnsupported)
	}
	o := &owners{clusterBits: uint64(r.clusterBits), of: make([]int32, clusters)}
	if err := r.own(ctx, o, r.l1Offset, r.l1Entries, 1); err != nil {
		return nil, err
	}
	for i, s := range r.snapshots {
		if err := r.own(ctx, o, s.l1Offset, s.l1Length, int32(i+2)); err != nil {
			return nil, fmt.Errorf("in the snapshot %q: %w", s.name, err)
		}
	}
	rooms := make([]int64, len(r.snapshots)+2)
	for _, by := range o.of {
		if by > 0 {
			rooms[by] += int64(r.cluster())
		}
	}
	kept := []disk.Kept{}
	for i, s := range r.snapshots {
		kept = append(kept, disk.Kept{Name: s.name, Room: rooms[i+2]})
	}
	return kept, nil
}

// own notes all clusters that one state uses: its L1 table, its L2 tables, and what they name.
func (r *reader) own(ctx context.Context, o *owners, l1Offset uint64, entries uint32, by int32) error {
	end := l1Offset + 8*uint64(entries)
	if l1Offset > uint64(r.fileSize) || end > uint64(r.fileSize) {
		return disk.Damaged("the L1 table ends at %d, behind the end of the file at %d", end, r.fileSize)
	}
	o.take(l1Offset, 8*uint64(entries), by)
	table, seen := make([]byte, r.cluster()), map[uint64]bool{}
	var b [8]byte
	for i := range int64(entries) {
		if err := ctx.Err(); err != nil {
			return err
		}
		if _, err := r.tables.ReadAt(b[:], int64(l1Offset)+8*i); err != nil {
			return err
		}
		l2 := binary.BigEndian.Uint64(b[:]) & offsetMask
		if l2 == 0 || seen[l2] { // hostile images name one again and again
			continue
		}
		seen[l2] = true
		if l2%r.cluster() != 0 || l2+r.cluster() > uint64(r.fileSize) {
			return disk.Damaged("L2 table %d is said to lie at %#x, which is no place in the file", i, l2)
		}
		o.take(l2, r.cluster(), by)
		if err := disk.ReadFull(r.file, table, int64(l2)); err != nil {
			return err
		}
		for at := 0; at < len(table); at += int(r.entrySize()) {
			r.ownEntry(o, binary.BigEndian.Uint64(table[at:]), by)
		}
	}
	return nil
}

// ownEntry notes the cluster of an entry of an L2 table.
func (r *reader) ownEntry(o *owners, entry uint64, by int32) {
	switch {
	case entry&compressedFlag != 0:
		split := 62 - (uint64(r.clusterBits) - 8)
		sectors := entry&^uint64(copiedFlag|compressedFlag)>>split + 1
		o.take(entry&(1<<split-1), sectors*512, by)
	case entry&offsetMask != 0 && r.data == r.file:
		o.take(entry&offsetMask, r.cluster(), by)
	}
}
