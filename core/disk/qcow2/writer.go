package qcow2

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

const (
	entriesL2      = clusterSize / 8                // clusters that an L2 table covers
	coversL2       = entriesL2 * clusterSize        // bytes of the disk that an L2 table covers: 512 MiB
	refcountsBlock = clusterSize * 8 / 16           // refcounts of 16 bits in a block
	largestWritten = 32 << 20 / 8 * int64(coversL2) // an L1 table of 32 MiB is the longest that readers accept
	tablesInMemory = 64                             // L2 tables, 4 MiB
)

// imageSize is the length of an image with that virtual size, of which stored bytes lie in clusters that have data, and
// indexed bytes in the ranges of L2 tables that have data.
func imageSize(virtual, stored, indexed int64) int64 {
	up := func(n, unit int64) int64 { return (n + unit - 1) / unit * unit }
	l1 := max(up(8*up(virtual, coversL2)/coversL2, clusterSize), clusterSize)
	used := clusterSize + l1 + up(indexed, coversL2)/coversL2*clusterSize + up(stored, clusterSize)
	blocks, table := refcountClusters(used / clusterSize)
	return used + (blocks+table)*clusterSize
}

// refcountClusters is how many clusters the refcount blocks and the refcount table take that count used clusters and
// themselves.
func refcountClusters(used int64) (blocks, table int64) {
	for {
		b := (used + blocks + table + refcountsBlock - 1) / refcountsBlock
		t := (b*8 + clusterSize - 1) / clusterSize
		if b == blocks && t == table {
			return b, t
		}
		blocks, table = b, t
	}
}

// writer makes an image: header, L1 table, then L2 tables and clusters in the order in which they are first heard of,
// and the refcounts at the end. Every cluster of the file is used exactly once, so the refcounts are all one.
type writer struct {
	target disk.Target
	file   storage.File
	done   bool

	mu     sync.Mutex
	l1     []uint64           // offsets of L2 tables, at most 32 MiB
	tables map[int64][]uint64 // L2 tables that are in memory: host offsets of clusters
	end    int64              // of the last cluster
}

func create(t disk.Target) (disk.Writer, error) {
	file, err := t.Folder.Create(t.Name)
	if err != nil {
		return nil, fmt.Errorf("creating %s: %w", t.Name, err)
	}
	w := &writer{target: t, file: file, l1: make([]uint64, (t.Size+coversL2-1)/coversL2), tables: map[int64][]uint64{}}
	w.end = clusterSize + w.l1Size()
	if t.Layout == thick {
		if err := w.reserve(); err != nil {
			return nil, errors.Join(fmt.Errorf("taking room for %s: %w", t.Name, err), w.Abort())
		}
	}
	return w, nil
}

// l1Size is the length of the L1 table in whole clusters; even an empty disk has one.
func (w *writer) l1Size() int64 {
	return max((8*int64(len(w.l1))+clusterSize-1)/clusterSize, 1) * clusterSize
}

// reserve gives every cluster its place and takes the room for all.
func (w *writer) reserve() error {
	if err := w.Place(0, w.target.Size); err != nil {
		return err
	}
	blocks, table := refcountClusters(w.end / clusterSize)
	a, ok := w.file.(storage.Allocator)
	if !ok {
		return w.Zero(0, w.target.Size)
	}
	if err := a.Allocate(0, w.end+(blocks+table)*clusterSize); errors.Is(err, errors.ErrUnsupported) {
		return w.Zero(0, w.target.Size)
	} else if err != nil {
		return err
	}
	return nil
}

// Place gives the clusters of a range their place in the file.
func (w *writer) Place(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for at := off / clusterSize * clusterSize; at < off+n; at += clusterSize {
		if _, err := w.cluster(at, true); err != nil {
			return err
		}
	}
	return nil
}

// cluster returns the host offset of the cluster for the disk's offset. One without a place gets one, or 0 when make is
// false. The lock is held.
func (w *writer) cluster(off int64, make bool) (int64, error) {
	table, err := w.table(off/coversL2, make)
	if err != nil || table == nil {
		return 0, err
	}
	i := off % coversL2 / clusterSize
	if table[i] == 0 && make {
		table[i] = uint64(w.end)
		w.end += clusterSize
	}
	return int64(table[i]), nil
}

// table returns an L2 table. One that does not exist yet is made, or nil when create is false. The lock is held.
func (w *writer) table(number int64, create bool) ([]uint64, error) {
	if t := w.tables[number]; t != nil {
		return t, nil
	}
	if w.l1[number] == 0 && !create {
		return nil, nil
	}
	if len(w.tables) >= tablesInMemory {
		if err := w.flush(); err != nil {
			return nil, err
		}
	}
	t := make([]uint64, entriesL2)
	if w.l1[number] == 0 {
		w.l1[number] = uint64(w.end)
		w.end += clusterSize
	} else {
		b := make([]byte, clusterSize)
		if _, err := w.file.ReadAt(b, int64(w.l1[number])); err != nil {
			return nil, fmt.Errorf("reading an L2 table back: %w", err)
		}
		for i := range t {
			t[i] = binary.BigEndian.Uint64(b[8*i:]) & offsetMask
		}
	}
	w.tables[number] = t
	return t, nil
}

// flush writes the L2 tables and forgets them. The lock is held.
func (w *writer) flush() error {
	for number, t := range w.tables {
		if _, err := w.file.WriteAt(encodeTable(t), int64(w.l1[number])); err != nil {
			return fmt.Errorf("writing an L2 table: %w", err)
		}
	}
	clear(w.tables)
	return nil
}

// encodeTable encodes an L1 or L2 table, in which every entry that is used has a refcount of one.
func encodeTable(t []uint64) []byte {
	b := make([]byte, 8*len(t))
	for i, offset := range t {
		if offset != 0 {
			binary.BigEndian.PutUint64(b[8*i:], offset|copiedFlag)
		}
	}
	return b
}

// run returns where the bytes from off on lie: the host offset and for how many bytes, at most limit, that goes on.
func (w *writer) run(off, limit int64, make bool) (host, n int64, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	first, err := w.cluster(off, make)
	if err != nil {
		return 0, 0, err
	}
	n = clusterSize - off%clusterSize
	for n < limit {
		next, err := w.cluster(off+n, make)
		if err != nil {
			return 0, 0, err
		}
		if first == 0 && next != 0 || first != 0 && next != first+off%clusterSize+n {
			break
		}
		n += clusterSize
	}
	if first == 0 {
		return 0, min(n, limit), nil
	}
	return first + off%clusterSize, min(n, limit), nil
}

func (w *writer) WriteAt(p []byte, off int64) (int, error) {
	if err := disk.CheckRange(off, int64(len(p)), w.target.Size); err != nil {
		return 0, err
	}
	done := 0
	for done < len(p) {
		host, n, err := w.run(off+int64(done), int64(len(p)-done), true)
		if err != nil {
			return done, err
		}
		k, err := w.file.WriteAt(p[done:done+int(n)], host)
		done += k
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// Zero leaves clusters that have no place without one: they read as zeros.
func (w *writer) Zero(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	zeros := make([]byte, min(n, 1<<20))
	for n > 0 {
		host, part, err := w.run(off, min(n, int64(len(zeros))), false)
		if err != nil {
			return err
		}
		if host != 0 {
			if _, err := w.file.WriteAt(zeros[:part], host); err != nil {
				return err
			}
		}
		off, n = off+part, n-part
	}
	return nil
}

// Commit writes the tables, the refcounts and the header, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.flush(); err != nil {
		return err
	}
	if _, err := w.file.WriteAt(encodeTable(w.l1), clusterSize); err != nil {
		return fmt.Errorf("writing the L1 table: %w", err)
	}
	tableOffset, tableClusters, err := w.writeRefcounts()
	if err != nil {
		return fmt.Errorf("writing the refcounts: %w", err)
	}
	h := header{
		clusterBits: clusterBits, size: uint64(w.target.Size), l1Entries: uint32(len(w.l1)), l1Offset: clusterSize,
		refcountOffset: uint64(tableOffset), refcountLength: uint32(tableClusters), refcountOrder: refcountOrder,
	}
	if _, err := w.file.WriteAt(h.encode(), 0); err != nil {
		return fmt.Errorf("writing the header: %w", err)
	}
	if err := w.file.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.target.Name, err)
	}
	w.done = true
	return w.file.Close()
}

// writeRefcounts puts the refcount blocks behind the last cluster and their table behind them.
func (w *writer) writeRefcounts() (offset, clusters int64, err error) {
	used := w.end / clusterSize
	blocks, table := refcountClusters(used)
	all := used + blocks + table
	entries := make([]byte, table*clusterSize)
	for i := range blocks {
		block := make([]byte, clusterSize)
		copy(block, bytes.Repeat([]byte{0, 1}, int(min(refcountsBlock, all-i*refcountsBlock))))
		at := w.end + i*clusterSize
		if _, err := w.file.WriteAt(block, at); err != nil {
			return 0, 0, err
		}
		binary.BigEndian.PutUint64(entries[8*i:], uint64(at))
	}
	offset = w.end + blocks*clusterSize
	_, err = w.file.WriteAt(entries, offset)
	return offset, table, err
}

func (w *writer) Abort() error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.file.Close(), w.target.Folder.Remove(w.target.Name))
}

func (w *writer) Files() []string { return []string{w.target.Name} }
