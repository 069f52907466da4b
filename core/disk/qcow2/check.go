package qcow2

import (
	"context"
	"encoding/binary"

	"bagaglio/core/disk"
)

// checkWindow is how many clusters of the file are looked at in one walk over the tables, so that memory stays bounded:
// two bits for each make 32 MiB, which is a file of 8 TiB with clusters of 64 KiB.
const checkWindow = 1 << 27

// Check walks all tables of the active disk and returns an error when an entry leads out of the file or two share a
// cluster. Refcounts are not looked at: reading does not depend on them.
func (r *reader) Check(ctx context.Context) error {
	if r.incompatible&corruptBit != 0 {
		return disk.Damaged("a hypervisor has marked it as corrupt: repair it there first")
	}
	if r.base != nil {
		if c, ok := r.base.(disk.Checker); ok {
			if err := c.Check(ctx); err != nil {
				return err
			}
		}
	}
	clusters := (r.fileSize + int64(r.cluster()) - 1) / int64(r.cluster())
	for first := int64(0); first < clusters; first += checkWindow {
		u := &usage{first: first, count: min(checkWindow, clusters-first)}
		u.alone, u.shared = make([]uint64, (u.count+63)/64), make([]uint64, (u.count+63)/64)
		if err := r.walk(ctx, u); err != nil {
			return err
		}
	}
	return nil
}

// usage notes who uses which cluster of the file, for those in its window.
type usage struct {
	first, count  int64
	alone, shared []uint64 // bits: used by one, used by compressed clusters
}

func (u *usage) take(cluster int64, compressed bool) error {
	i := cluster - u.first
	if i < 0 || i >= u.count {
		return nil
	}
	word, bit := i/64, uint64(1)<<(i%64)
	if u.alone[word]&bit != 0 || u.shared[word]&bit != 0 && !compressed {
		return disk.Damaged("two structures or two places of the disk use cluster %d of the file", cluster)
	}
	if compressed {
		u.shared[word] |= bit
	} else {
		u.alone[word] |= bit
	}
	return nil
}

// walk tells u of every cluster that is in use.
func (r *reader) walk(ctx context.Context, u *usage) error {
	if err := r.takeRange(u, 0, int64(r.length)); err != nil {
		return err
	}
	if err := r.takeRange(u, int64(r.l1Offset), 8*int64(r.l1Entries)); err != nil {
		return err
	}
	if r.refcountOffset%r.cluster() != 0 || r.refcountOffset > uint64(r.fileSize) {
		return disk.Damaged("the refcount table's offset %#x is impossible", r.refcountOffset)
	}
	if err := r.takeRange(u, int64(r.refcountOffset), int64(r.refcountLength)*int64(r.cluster())); err != nil {
		return err
	}
	covers := int64(r.cluster()) * int64(r.l2Entries())
	for number := range int64(r.l1Needed()) {
		if err := ctx.Err(); err != nil {
			return err
		}
		l2, err := r.l2Table(number)
		if err != nil {
			return err
		}
		if l2 == 0 {
			continue
		}
		if err := r.takeRange(u, l2, int64(r.cluster())); err != nil {
			return err
		}
		if err := r.walkTable(u, l2, number*covers); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) takeRange(u *usage, off, n int64) error {
	cluster := int64(r.cluster())
	for c := off / cluster; n > 0 && c <= (off+n-1)/cluster; c++ {
		if c*cluster >= r.fileSize {
			return disk.Damaged("a structure at offset %d ends behind the end of the file at %d", off, r.fileSize)
		}
		if err := u.take(c, false); err != nil {
			return err
		}
	}
	return nil
}

// walkTable goes through one L2 table, which covers the disk from off on.
func (r *reader) walkTable(u *usage, l2, off int64) error {
	cluster := int64(r.cluster())
	var b [8]byte
	for i := int64(0); i < int64(r.l2Entries()) && off+i*cluster < r.Size(); i++ {
		if _, err := r.tables.ReadAt(b[:], l2+i*int64(r.entrySize())); err != nil {
			return err
		}
		entry := binary.BigEndian.Uint64(b[:])
		host := int64(entry & offsetMask)
		switch {
		case entry&compressedFlag != 0:
			split := 62 - (r.clusterBits - 8)
			start := int64(entry & (1<<split - 1))
			if start >= r.fileSize {
				return disk.Damaged("a compressed cluster is said to lie at offset %d, but the file ends at %d", start, r.fileSize)
			}
			if err := u.take(start/cluster, true); err != nil {
				return err
			}
		case host == 0 || r.data != r.file:
		default:
			used := min(cluster, r.Size()-off-i*cluster)
			if host%cluster != 0 || host >= r.fileSize || entry&zeroFlag == 0 && r.entrySize() == 8 && host+used > r.fileSize {
				return disk.Damaged(
					"the cluster for offset %d is said to lie at %d, which is not a place in this file of %d bytes",
					off+i*cluster,
					host,
					r.fileSize,
				)
			}
			if err := u.take(host/cluster, false); err != nil {
				return err
			}
		}
	}
	return nil
}
