// Package exfat reads exFAT (the exFAT file system specification of 2019, whose sections the constants name).
package exfat

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

func init() { inspect.Register(open, "exfat") }

// Facts of the boot sector (3.1).
const (
	atLength                   = 72
	atTable, atTableLen        = 80, 84
	atHeap, atClusters, atRoot = 88, 92, 96
	atFlags                    = 106
	atSectorShift              = 108
	atClusterShift             = 109

	activeSecond, dirty, failing = 1, 2, 4 // of the flags (3.1.13)

	maxClusters = 0xfffffff5
	entrySize   = 32
)

var le = binary.LittleEndian

// volume is an open filesystem.
type volume struct {
	r               io.ReaderAt
	cluster         int64 // bytes
	total           int64
	table, tableLen int64 // the active one, in bytes
	heap, clusters  int64 // offset, count
	root            int64
	flags           uint16
	bitmap          []inspect.Piece
	label           string

	// apart are where entries of files lie whose streams do not come right behind them, by those.
	mu    sync.Mutex
	apart map[uint64]int64
}

// open reads the boot sector and the root folder.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, err
	}
	shift, per := b[atSectorShift], b[atClusterShift]
	if shift < 9 || shift > 12 || per > 25-shift {
		return nil, disk.Damaged("sectors of 2^%d bytes, clusters of 2^%d", shift, per)
	}
	sector := int64(1) << shift
	u32 := func(at int) int64 { return int64(le.Uint32(b[at:])) }
	v := &volume{
		r:       r,
		cluster: sector << per,
		total:   int64(min(le.Uint64(b[atLength:]), 1<<62/4096)) * sector,
		table:   u32(atTable) * sector,
		tableLen: u32(
			atTableLen,
		) * sector,
		heap:     u32(atHeap) * sector,
		clusters: u32(atClusters),
		root:     u32(atRoot),
		flags:    le.Uint16(b[atFlags:]),
		apart:    map[uint64]int64{},
	}
	if v.flags&activeSecond != 0 {
		v.table += v.tableLen
	}
	if v.total > size || v.clusters > maxClusters || v.heap+v.clusters*v.cluster > v.total || v.table+v.tableLen > v.heap ||
		(v.clusters+2)*4 > v.tableLen {
		return nil, disk.Damaged("%d clusters from %d on, of %d bytes", v.clusters, v.heap, v.total)
	}
	return v, v.readRoot()
}

// at is where a cluster lies.
func (v *volume) at(cluster int64) int64 { return v.heap + (cluster-2)*v.cluster }

// chain is where so many bytes lie from a cluster on; with less than zero, all.
func (v *volume) chain(cluster, size int64) (all []inspect.Piece, err error) {
	for off, n := int64(0), int64(0); size < 0 || off < size; n++ {
		if size < 0 && cluster == 0xffffffff {
			return all, nil
		}
		if cluster < 2 || cluster >= v.clusters+2 || n > v.clusters {
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
		if size >= 0 && off >= size {
			return all, nil
		}
		b := make([]byte, 4)
		if _, err := v.r.ReadAt(b, v.table+4*cluster); err != nil {
			return nil, fmt.Errorf("the table of clusters: %w", err)
		}
		cluster = int64(le.Uint32(b))
	}
	return all, nil
}

// together is where so many bytes lie that need no chain.
func (v *volume) together(cluster, size int64) ([]inspect.Piece, error) {
	if size == 0 {
		return nil, nil
	}
	if cluster < 2 || cluster >= v.clusters+2 || size > (v.clusters+2-cluster)*v.cluster {
		return nil, disk.Damaged("%d bytes from cluster %d on, of %d", size, cluster, v.clusters)
	}
	return []inspect.Piece{{Len: size, At: v.at(cluster)}}, nil
}

// Label is what it is called.
func (v *volume) Label() string { return v.label }

// AnyCase tells that names which differ in case only are the same.
func (v *volume) AnyCase() {}

// About says how full it is.
func (v *volume) About() inspect.About {
	a := inspect.About{Size: v.total, Used: v.heap}
	err := v.taken(context.Background(), func(int64) error { return nil }, func(n int64) { a.Used += n * v.cluster })
	switch {
	case err != nil:
		a.Doubt = err.Error()
	case v.flags&dirty != 0:
		a.Doubt = "it was not unmounted"
	case v.flags&failing != 0:
		a.Doubt = "it has errors on record"
	}
	return a
}

// bitmapPart is how much of the bitmap is read at once, in bytes.
const bitmapPart = 64 << 10

// taken calls each with the clusters that are taken, and count with how many there are of them in each part of the bitmap (7.1).
func (v *volume) taken(ctx context.Context, each func(cluster int64) error, count func(n int64)) error {
	left, cluster := v.clusters, int64(2)
	for _, p := range v.bitmap {
		for done := int64(0); done < p.Len && left > 0; {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			part := make([]byte, min(bitmapPart, p.Len-done))
			if _, err := v.r.ReadAt(part, p.At+done); err != nil {
				return fmt.Errorf("the map of clusters: %w", err)
			}
			for _, b := range part {
				if left < 8 {
					b &= 1<<max(left, 0) - 1
				}
				count(int64(bits.OnesCount8(b)))
				for i := range int64(8) {
					if b>>i&1 == 1 {
						if err := each(cluster + i); err != nil {
							return err
						}
					}
				}
				cluster, left = cluster+8, left-8
			}
			done += int64(len(part))
		}
	}
	if left > 0 {
		return disk.Damaged("a map of clusters that lacks %d of them", left)
	}
	return nil
}

// Used tells what lies before the clusters, and each cluster that is taken.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	runs := inspect.NewRuns(each)
	if err := runs.Add(0, v.heap); err != nil {
		return err
	}
	if err := v.taken(ctx, func(cluster int64) error { return runs.Add(v.at(cluster), v.cluster) }, func(int64) {}); err != nil {
		return err
	}
	return runs.Flush()
}
