package qcow2

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

func create(t disk.Target) (disk.Writer, error) {
	if (t.Base != nil) != (t.Layout == overlay) {
		return nil, fmt.Errorf("an overlay needs a base, and no other layout has one")
	}
	s := shapeOf(t.Options)
	if t.Layout == compressed {
		return createPacked(t, s)
	}
	file, err := t.NewFile(t.Name)
	if err != nil {
		return nil, err
	}
	w := &writer{
		shape: s, target: t, file: file, l1: make([]uint64, s.l1Tables(t.Size)), tables: map[int64][]uint64{},
		inMemory: int(max(4, tableMemory/s.cluster)),
	}
	w.tablesAt, w.end = s.firstTables(t.Size)
	w.tablesEnd = w.end
	if t.Resumed() { // a header that Commit may have written already
		_, err = file.WriteAt(make([]byte, s.cluster), 0)
	}
	if err == nil && t.Layout == thick {
		err = w.reserve(t.Options.Reserve == reserveTables)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("taking room for %s: %w", t.Name, err), w.Close())
	}
	return w, nil
}

// tableMemory is for how many bytes of L2 tables are kept in memory.
const tableMemory = 4 << 20

// writer makes an image: header, L1 table, room for L2 tables up to a whole MiB, then clusters in the order in which they
// are first heard of, with more room for tables where it is needed, and the refcounts at the end. Every cluster of the file
// is used exactly once, but for what is left of that room, so the refcounts are one.
type writer struct {
	shape
	target disk.Target
	file   storage.File
	done   bool

	mu                  sync.Mutex
	l1                  []uint64           // offsets of L2 tables, at most longestL1
	tables              map[int64][]uint64 // L2 tables that are in memory: host offsets of clusters, or zeroFlag
	inMemory            int                // how many at most
	end                 int64              // of the last cluster
	tablesAt, tablesEnd int64              // room for L2 tables
}

// placeTable returns where the next L2 table lies.
func (w *writer) placeTable() int64 {
	if w.tablesAt == w.tablesEnd {
		w.tablesAt, w.end = w.end, w.end+w.moreTables()
		w.tablesEnd = w.end
	}
	at := w.tablesAt
	w.tablesAt += w.cluster
	return at
}

// reserve gives every cluster its place and takes the room for all, or only for the tables.
func (w *writer) reserve(tablesOnly bool) error {
	if err := w.Place(0, w.target.Size); err != nil || tablesOnly || w.target.Resumed() {
		return err
	}
	blocks, table := w.refcountClusters(w.end / w.cluster)
	if a, ok := w.file.(storage.Allocator); ok {
		if err := a.Allocate(0, w.end+(blocks+table)*w.cluster); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	return w.Zero(0, w.target.Size)
}

// Place gives the clusters of a range their place in the file.
func (w *writer) Place(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for at := off / w.cluster * w.cluster; at < off+n; at += w.cluster {
		if _, err := w.place(at, off, off+n); err != nil {
			return err
		}
	}
	return nil
}

// find returns the entry of the cluster for the disk's offset, or 0. The lock is held.
func (w *writer) find(off int64) (uint64, error) {
	table, err := w.table(off/w.covers(), false)
	if err != nil || table == nil {
		return 0, err
	}
	return table[off%w.covers()/w.cluster], nil
}

// place returns the host offset of a cluster, and gives it a place if it has none. The disk's range from..to is going to
// be written; what else is in the cluster comes from the base. The lock is held.
func (w *writer) place(off, from, to int64) (int64, error) {
	table, err := w.table(off/w.covers(), true)
	if err != nil {
		return 0, err
	}
	entry := &table[off%w.covers()/w.cluster]
	if *entry > zeroFlag {
		return int64(*entry), nil
	}
	start := off / w.cluster * w.cluster
	end := min(start+w.cluster, w.target.Size)
	if w.target.Base != nil && !w.target.Replaying() && *entry != zeroFlag && (from > start || to < end) {
		p := make([]byte, end-start)
		if err := disk.ReadBelow(w.target.Base, p, start); err != nil {
			return 0, err
		}
		if _, err := w.file.WriteAt(p, w.end); err != nil {
			return 0, err
		}
	}
	*entry = uint64(w.end)
	w.end += w.cluster
	return int64(*entry), nil
}

// table returns an L2 table. One that does not exist yet is made, or nil when create is false. The lock is held.
func (w *writer) table(number int64, create bool) ([]uint64, error) {
	if t := w.tables[number]; t != nil {
		return t, nil
	}
	if w.l1[number] == 0 && !create {
		return nil, nil
	}
	if len(w.tables) >= w.inMemory {
		if err := w.flush(); err != nil {
			return nil, err
		}
	}
	t := make([]uint64, w.entries())
	if w.l1[number] == 0 {
		w.l1[number] = uint64(w.placeTable())
	} else {
		b := make([]byte, w.cluster)
		if _, err := w.file.ReadAt(b, int64(w.l1[number])); err != nil {
			return nil, fmt.Errorf("reading an L2 table back: %w", err)
		}
		for i := range t {
			t[i] = binary.BigEndian.Uint64(b[8*i:]) & (offsetMask | zeroFlag)
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

// encodeTable encodes an L1 or L2 table, in which every plain cluster that is used has a refcount of one.
func encodeTable(t []uint64) []byte {
	b := make([]byte, 8*len(t))
	for i, entry := range t {
		if entry > zeroFlag && entry&compressedFlag == 0 {
			entry |= copiedFlag
		}
		binary.BigEndian.PutUint64(b[8*i:], entry)
	}
	return b
}

// run places the clusters from off on, and returns the host offset and for how many bytes, at most limit, that goes on.
func (w *writer) run(off, limit int64) (host, n int64, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	first, err := w.place(off, off, off+limit)
	if err != nil {
		return 0, 0, err
	}
	inCluster := off % w.cluster
	for n = w.cluster - inCluster; n < limit; n += w.cluster {
		next, err := w.place(off+n, off, off+limit)
		if err != nil {
			return 0, 0, err
		}
		if next != first+inCluster+n {
			break
		}
	}
	return first + inCluster, min(n, limit), nil
}

func (w *writer) WriteAt(p []byte, off int64) (int, error) {
	if err := disk.CheckRange(off, int64(len(p)), w.target.Size); err != nil {
		return 0, err
	}
	done := 0
	for done < len(p) {
		host, n, err := w.run(off+int64(done), int64(len(p)-done))
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

// Zero leaves clusters that have no place without one where they read as zeros.
func (w *writer) Zero(off, n int64) error {
	if err := disk.CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	for n > 0 {
		part := min(n, w.cluster-off%w.cluster)
		if host, err := w.zero(off, part); err != nil {
			return err
		} else if host == skipTable {
			part = min(n, w.covers()-off%w.covers())
		} else if host > 0 {
			if _, err := w.file.WriteAt(make([]byte, part), host); err != nil {
				return err
			}
		}
		off, n = off+part, n-part
	}
	return nil
}

// skipTable says that all that an L2 table would cover reads as zeros.
const skipTable = -1

// zero returns where in the file zeros have to be written for a range inside of one cluster, or 0 where nothing has to be.
func (w *writer) zero(off, n int64) (int64, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.target.Base == nil && w.l1[off/w.covers()] == 0 {
		return skipTable, nil
	}
	entry, err := w.find(off)
	if err != nil || entry == zeroFlag || entry == 0 && disk.ZeroBelow(w.target.Base, off, n) {
		return 0, err
	}
	whole := off%w.cluster == 0 && (n == w.cluster || off+n == w.target.Size)
	if entry == 0 && whole && w.target.Options.Version != 2 { // which has no zero clusters
		table, err := w.table(off/w.covers(), true)
		if err == nil {
			table[off%w.covers()/w.cluster] = zeroFlag
		}
		return 0, err
	}
	host, err := w.place(off, off, off+n)
	return host + off%w.cluster, err
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
	h := w.header(w.target)
	var err error
	if h.refcountOffset, h.refcountLength, err = w.writeRefcounts(); err != nil {
		return fmt.Errorf("writing the refcounts: %w", err)
	}
	parts, err := structures(w.l1, h, w.cluster)
	if err == nil {
		err = disk.WriteParts(w.file, w.target.Name, parts...)
	}
	if err != nil {
		return err
	}
	if err := w.file.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.target.Name, err)
	}
	return nil
}

// header is that of an image without refcounts.
func (s shape) header(t disk.Target) header {
	h := header{
		version: 3, clusterBits: s.bits(), size: uint64(t.Size), l1Entries: uint32(s.l1Tables(t.Size)), l1Offset: uint64(s.cluster),
		refcountOrder: refcountOrder,
	}
	if t.Options.Version > 0 {
		h.version = uint32(t.Options.Version)
	}
	if t.Base != nil {
		h.base = t.BaseName
		if format := t.Base.Describe().Format; slices.Contains(namedAlike, format) {
			h.baseFormat = format
		}
	}
	return h
}

// namedAlike are the formats whose names all readers have in common. Others are left out: a reader looks at the base itself,
// which has marks. Only of raw a reader cannot know without being told.
var namedAlike = []string{"raw", "qcow2", "vmdk", "vhdx", "vdi"}

// structures are the L1 table and the header, which makes an image of the file.
func structures(l1 []uint64, h header, cluster int64) ([]disk.Part, error) {
	encoded, err := h.encode(int(cluster))
	return []disk.Part{{What: "L1 table", Bytes: encodeTable(l1), Off: int64(h.l1Offset)}, {What: "header", Bytes: encoded}}, err
}

// writeRefcounts puts the refcount blocks behind the last cluster and their table behind them.
func (w *writer) writeRefcounts() (offset uint64, clusters uint32, err error) {
	used := w.end / w.cluster
	blocks, table := w.refcountClusters(used)
	all := used + blocks + table
	entries := make([]byte, table*w.cluster)
	for i := range blocks {
		block := make([]byte, w.cluster)
		first, last := i*w.refcounts(), min((i+1)*w.refcounts(), all)
		copy(block, bytes.Repeat([]byte{0, 1}, int(last-first)))
		for free := max(w.tablesAt/w.cluster, first); free < min(w.tablesEnd/w.cluster, last); free++ {
			clear(block[2*(free-first):][:2])
		}
		at := w.end + i*w.cluster
		if _, err := w.file.WriteAt(block, at); err != nil {
			return 0, 0, err
		}
		binary.BigEndian.PutUint64(entries[8*i:], uint64(at))
	}
	offset = uint64(w.end + blocks*w.cluster)
	_, err = w.file.WriteAt(entries, int64(offset))
	return offset, uint32(table), err
}

func (w *writer) Files() []string { return []string{w.target.Name} }
