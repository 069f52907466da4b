package qcow2

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// packer makes an image of compressed clusters, from front to back: each L2 table lies behind its clusters, and each
// refcount block behind what it counts.
type packer struct {
	shape
	*disk.Spool
	zstd bool

	l1     []uint64
	number int64    // of the L2 table that is being filled, -1 before the first one
	table  []uint64 //

	counts map[int64][]uint16 // refcount blocks that are not written yet
	blocks []uint64           // offsets of those that are
}

func createPacked(t disk.Target, s shape) (disk.Writer, error) {
	w := &packer{
		shape: s, zstd: t.Options.Compression == zstdName,
		l1: make([]uint64, s.l1Tables(t.Size)), number: -1, table: make([]uint64, s.entries()), counts: map[int64][]uint16{},
	}
	var err error
	if w.Spool, err = disk.NewSpool(t, w); err != nil {
		return nil, err
	}
	w.Out.End = s.cluster + s.l1Size(t.Size)
	w.count(0, w.Out.End)
	return w, nil
}

func (w *packer) Unit() int64 { return w.cluster }

// deflaters compress with a window of 4 KiB: readers of the format give their decoder no more.
var deflaters = sync.Pool{New: func() any {
	d, err := flate.NewWriterWindow(nil, 4<<10)
	if err != nil {
		panic(fmt.Sprintf("making an encoder: %v", err)) // only for a window that makes no sense
	}
	return d
}}

var zstdEncoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(fmt.Sprintf("making an encoder: %v", err)) // only for options that make no sense
	}
	return e
}}

// Encode gives the compressed cluster, or the cluster as it is when that is not longer.
func (w *packer) Encode(out, block []byte) ([]byte, error) {
	if int64(len(block)) < w.cluster { // the last one is stored whole
		block = append(block[:len(block):len(block)], make([]byte, w.cluster-int64(len(block)))...)
	}
	start := len(out)
	if w.zstd {
		e := zstdEncoders.Get().(*zstd.Encoder)
		out = e.EncodeAll(block, out)
		zstdEncoders.Put(e)
	} else {
		d := deflaters.Get().(*flate.Writer)
		defer deflaters.Put(d)
		b := bytes.NewBuffer(out)
		d.Reset(b)
		_, err := d.Write(block)
		if err = errors.Join(err, d.Close()); err != nil {
			return nil, err
		}
		out = b.Bytes()
	}
	if int64(len(out)-start) >= w.cluster {
		out = append(out[:start], block...)
	}
	return out, nil
}

// Append writes a cluster and notes its entry ("Compressed Clusters Descriptor").
func (w *packer) Append(encoded []byte, off int64) error {
	if number := off / w.covers(); number != w.number {
		if err := w.finishTable(); err != nil {
			return err
		}
		w.number = number
	}
	plain := int64(len(encoded)) == w.cluster
	if plain {
		if err := w.Out.Pad(w.cluster); err != nil {
			return err
		}
	}
	start, end := w.Out.End, w.Out.End+int64(len(encoded))
	entry := uint64(start)
	if !plain {
		split := 62 - (w.bits() - 8)
		more := (end-1)/512 - start/512 // sectors beyond the first one
		entry |= compressedFlag | uint64(more)<<split
	}
	w.table[off%w.covers()/w.cluster] = entry
	w.count(start, end)
	_, err := w.Out.Write(encoded)
	return err
}

// count adds one to the refcount of each cluster of the file that a range touches.
func (w *packer) count(from, to int64) {
	for c := from / w.cluster; c*w.cluster < to; c++ {
		block := w.counts[c/w.refcounts()]
		if block == nil {
			block = make([]uint16, w.refcounts())
			w.counts[c/w.refcounts()] = block
		}
		block[c%w.refcounts()]++
	}
}

// finishTable writes the L2 table that is being filled, and the refcount blocks whose clusters are all behind.
func (w *packer) finishTable() error {
	if w.number < 0 {
		return nil
	}
	at, err := w.structure(encodeTable(w.table))
	if err != nil {
		return fmt.Errorf("writing an L2 table: %w", err)
	}
	w.l1[w.number] = uint64(at)
	clear(w.table)
	w.number = -1
	for (int64(len(w.blocks))+1)*w.refcounts()*w.cluster <= w.Out.End {
		if err := w.writeBlock(); err != nil {
			return err
		}
	}
	return nil
}

// structure writes whole clusters at the next one that is free.
func (w *packer) structure(b []byte) (at int64, err error) {
	if err := w.Out.Pad(w.cluster); err != nil {
		return 0, err
	}
	at = w.Out.End
	w.count(at, at+int64(len(b)))
	_, err = w.Out.Write(b)
	return at, err
}

// writeBlock writes the next refcount block. Its own refcount is in a later one, or noted already.
func (w *packer) writeBlock() error {
	number := int64(len(w.blocks))
	if err := w.Out.Pad(w.cluster); err != nil {
		return err
	}
	at := w.Out.End
	w.count(at, at+w.cluster)
	b := make([]byte, 0, w.cluster)
	for _, n := range w.counts[number] {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	delete(w.counts, number)
	w.blocks = append(w.blocks, uint64(at))
	_, err := w.Out.Write(b)
	return err
}

// Commit encodes what was written out of order, writes what is left of the tables and the header, and syncs all.
func (w *packer) Commit(ctx context.Context) error {
	if err := w.Drain(ctx); err != nil {
		return err
	}
	if err := w.finishTable(); err != nil {
		return err
	}
	h := w.header(w.Target)
	if w.zstd {
		h.incompatible, h.compression = compressionBit, compressionZstd
	}
	var err error
	if h.refcountOffset, h.refcountLength, err = w.finishRefcounts(); err != nil {
		return fmt.Errorf("writing the refcounts: %w", err)
	}
	parts, err := structures(w.l1, h, w.cluster)
	if err != nil {
		return err
	}
	return w.Finish(parts...)
}

// finishRefcounts writes the table of the refcount blocks and then those that are left, which count the table and each other.
func (w *packer) finishRefcounts() (offset uint64, clusters uint32, err error) {
	if err := w.Out.Pad(w.cluster); err != nil {
		return 0, 0, err
	}
	used, written := w.Out.End/w.cluster, int64(len(w.blocks))
	var blocks, table int64 // in all
	for {
		b := (used + table + blocks - written + w.refcounts() - 1) / w.refcounts()
		b = max(b, written)
		t := up(8*b, w.cluster) / w.cluster
		if b == blocks && t == table {
			break
		}
		blocks, table = b, t
	}
	first := w.Out.End + table*w.cluster // where the blocks that are left begin
	entries := make([]byte, 0, table*w.cluster)
	for i := range blocks {
		at := uint64(first + (i-written)*w.cluster)
		if i < written {
			at = w.blocks[i]
		}
		entries = binary.BigEndian.AppendUint64(entries, at)
	}
	at, err := w.structure(entries[:table*w.cluster])
	if err != nil {
		return 0, 0, err
	}
	// Each block has to know of all clusters before any is written.
	left := blocks - written
	w.count(first, first+left*w.cluster)
	for i := range left {
		b := make([]byte, w.cluster)
		for k, n := range w.counts[written+i] {
			binary.BigEndian.PutUint16(b[2*k:], n)
		}
		if _, err := w.Out.Write(b); err != nil {
			return 0, 0, err
		}
	}
	return uint64(at), uint32(table), nil
}
