package qcow2

import (
	"math/bits"

	"bagaglio/core/disk"
)

const (
	alignment      = 1 << 20 // of guest data that has no gaps: tables come in whole MiB
	defaultCluster = 64 << 10
	longestL1      = 32 << 20 // bytes, the longest L1 table that readers accept
)

// shape are the measures of an image that we write, all by the length of its clusters.
type shape struct{ cluster int64 }

func shapeOf(o disk.Options) shape {
	if o.BlockSize > 0 {
		return shape{o.BlockSize}
	}
	return shape{defaultCluster}
}

func up(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// bits is cluster_bits of the header.
func (s shape) bits() uint32 { return uint32(bits.TrailingZeros64(uint64(s.cluster))) }

// entries is how many clusters an L2 table covers.
func (s shape) entries() int64 { return s.cluster / 8 }

// covers is how many bytes of the disk an L2 table covers.
func (s shape) covers() int64 { return s.entries() * s.cluster }

// refcounts is how many refcounts of 16 bits are in a block.
func (s shape) refcounts() int64 { return s.cluster / 2 }

// largest is the virtual size for which the L1 table becomes as long as it may.
func (s shape) largest() int64 { return longestL1 / 8 * s.covers() }

// l1Tables is how many L2 tables a disk has at most, which is the length of its L1 table in entries.
func (s shape) l1Tables(virtual int64) int64 { return up(virtual, s.covers()) / s.covers() }

// l1Size is the length of the L1 table in whole clusters; even an empty disk has one.
func (s shape) l1Size(virtual int64) int64 {
	return max(up(8*s.l1Tables(virtual), s.cluster), s.cluster)
}

// units are the lengths in which an image stores: clusters, and what an L2 table covers.
func (s shape) units() []int64 { return []int64{s.cluster, s.covers()} }

// firstTables are where L2 tables may lie at first: behind the L1 table, up to a whole MiB.
func (s shape) firstTables(virtual int64) (from, to int64) {
	from = s.cluster + s.l1Size(virtual)
	return from, up(from, alignment)
}

// moreTables is the length of each further place for L2 tables.
func (s shape) moreTables() int64 { return max(alignment, s.cluster) }

// fileSize is the length of an image with that virtual size, of which stored bytes lie in clusters that have data, and
// indexed bytes in the ranges of L2 tables that have data.
func (s shape) fileSize(virtual, stored, indexed int64) int64 {
	from, to := s.firstTables(virtual)
	tables := up(indexed, s.covers())/s.covers()*s.cluster - (to - from) // those that do not fit there
	used := to + up(max(tables, 0), s.moreTables()) + up(stored, s.cluster)
	blocks, table := s.refcountClusters(used / s.cluster)
	return used + (blocks+table)*s.cluster
}

// refcountClusters is how many clusters the refcount blocks and the refcount table take that count used clusters and
// themselves.
func (s shape) refcountClusters(used int64) (blocks, table int64) {
	for {
		b := (used + blocks + table + s.refcounts() - 1) / s.refcounts()
		t := up(b*8, s.cluster) / s.cluster
		if b == blocks && t == table {
			return b, t
		}
		blocks, table = b, t
	}
}
