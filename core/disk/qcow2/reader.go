package qcow2

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

type reader struct {
	header
	file      storage.File
	fileSize  int64
	files     []string
	tables    *disk.Pages
	data      storage.File // where guest data lies: file, or another one
	dataSize  int64
	base      disk.Reader // nil without one
	snapshots []snapshot
}

func open(ctx context.Context, o disk.Origin) (disk.Reader, error) {
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return nil, err
	}
	r := &reader{file: file, data: file, files: []string{o.Name}}
	if err := r.load(ctx, o); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *reader) load(ctx context.Context, o disk.Origin) error {
	var err error
	if r.fileSize, err = r.file.Size(); err != nil {
		return err
	}
	if r.header, _, err = readHeader(r.file, r.fileSize); err != nil {
		return err
	}
	if err := r.checkL1(); err != nil {
		return err
	}
	r.tables = disk.NewPages(r.file, r.fileSize)
	r.dataSize = r.fileSize
	if r.incompatible&dataFileBit != 0 {
		if err := r.openData(o); err != nil {
			return fmt.Errorf("opening the file %q that holds the guest's data: %w", r.dataFile, err)
		}
	}
	if r.snapshots, err = r.loadSnapshots(); err != nil {
		return fmt.Errorf("reading the list of snapshots: %w", err)
	}
	if o.Snapshot != "" {
		if err := r.goTo(o.Snapshot); err != nil {
			return err
		}
	}
	if r.header.base == "" {
		return nil
	}
	if _, err := disk.Lookup(r.baseFormat); err != nil {
		r.baseFormat = "" // another hypervisor's name for it: the base has marks of its own, unless it is raw
	}
	r.base, err = o.Base(ctx, r.header.base, r.baseFormat)
	return err
}

func (r *reader) checkL1() error {
	if end := r.l1Offset + 8*uint64(r.l1Entries); r.l1Offset > uint64(r.fileSize) || end > uint64(r.fileSize) {
		return disk.Damaged("the L1 table ends at %d, behind the end of the file at %d", end, r.fileSize)
	}
	return nil
}

func (r *reader) openData(o disk.Origin) error {
	name, err := o.Beside(r.dataFile)
	if err != nil {
		return err
	}
	file, err := o.Folder.Open(name)
	if err != nil {
		return err
	}
	r.data = file
	r.files = append([]string{name}, r.files...)
	r.dataSize, err = file.Size()
	return err
}

// place is where a run of the disk is stored.
type place struct {
	kind disk.Kind
	len  int64
	// host is the offset in the data file of a run of kind Data; the entry itself when it is compressed.
	host       int64
	compressed bool
}

// at returns where the bytes from off on are stored, as far as one entry of the tables tells.
func (r *reader) at(off int64) (place, error) {
	cluster := int64(r.cluster())
	inCluster := off % cluster
	covers := cluster * int64(r.l2Entries())
	l2, err := r.l2Table(off / covers)
	if err != nil {
		return place{}, err
	}
	if l2 == 0 {
		return place{kind: disk.Hole, len: covers - off%covers}, nil
	}
	var raw [16]byte
	b := raw[:r.entrySize()]
	if _, err := r.tables.ReadAt(b, l2+off%covers/cluster*int64(len(b))); err != nil {
		return place{}, err
	}
	entry := binary.BigEndian.Uint64(b)
	p := place{kind: disk.Data, len: cluster - inCluster, host: int64(entry&offsetMask) + inCluster}
	switch {
	case entry&compressedFlag != 0:
		p.host, p.compressed = int64(entry&^uint64(copiedFlag|compressedFlag)), true
		return p, nil
	case len(b) == 16:
		p.kind, p.len, err = subcluster(binary.BigEndian.Uint64(b[8:]), inCluster, cluster/subclusters)
		if err != nil {
			return place{}, err
		}
	case entry&zeroFlag != 0 && r.version >= 3:
		p.kind = disk.Zero
	case entry&offsetMask == 0 && (r.incompatible&dataFileBit == 0 || entry&copiedFlag == 0):
		p.kind = disk.Hole // in a data file of its own, offset 0 holds data like any other
	}
	if p.kind == disk.Data && int64(entry&offsetMask)%cluster != 0 {
		return place{}, disk.Damaged("the cluster for offset %d is said to lie at %#x, which is not on a cluster", off, entry&offsetMask)
	}
	return p, nil
}

// subcluster reads the bitmap of an extended entry for the subclusters from inCluster on.
func subcluster(bitmap uint64, inCluster, size int64) (disk.Kind, int64, error) {
	kindOf := func(i int64) (disk.Kind, error) {
		allocated, zero := bitmap>>i&1 != 0, bitmap>>(i+subclusters)&1 != 0
		switch {
		case allocated && zero:
			return disk.Data, disk.Damaged("subcluster %d is marked both as stored and as zeros", i)
		case allocated:
			return disk.Data, nil
		case zero:
			return disk.Zero, nil
		}
		return disk.Hole, nil
	}
	first := inCluster / size
	kind, err := kindOf(first)
	last := first + 1
	for ; err == nil && last < subclusters; last++ {
		var next disk.Kind
		if next, err = kindOf(last); next != kind {
			break
		}
	}
	return kind, last*size - inCluster, err
}

// l2Table returns the offset of an L2 table, or 0 when there is none.
func (r *reader) l2Table(number int64) (int64, error) {
	var b [8]byte
	if _, err := r.tables.ReadAt(b[:], int64(r.l1Offset)+8*number); err != nil {
		return 0, err
	}
	l2 := binary.BigEndian.Uint64(b[:]) & offsetMask
	if l2%r.cluster() != 0 {
		return 0, disk.Damaged("L2 table %d is said to lie at %#x, which is not on a cluster", number, l2)
	}
	if l2 != 0 && (l2 > uint64(r.fileSize) || l2+r.cluster() > uint64(r.fileSize)) {
		return 0, disk.Damaged("L2 table %d is said to lie at offset %d, but the file ends at %d", number, l2, r.fileSize)
	}
	return int64(l2), nil
}

// run is at, with what follows joined to it as long as it is stored in the same way and place, up to limit bytes.
func (r *reader) run(off, limit int64) (place, error) {
	p, err := r.at(off)
	if err != nil || p.compressed {
		p.len = min(p.len, limit)
		return p, err
	}
	for range disk.MaxJoined {
		if p.len >= limit {
			break
		}
		next, err := r.at(off + p.len)
		// A damaged entry that comes later is reported when it is reached.
		if err != nil || next.compressed || next.kind != p.kind || p.kind == disk.Data && next.host != p.host+p.len {
			break
		}
		p.len += next.len
	}
	p.len = min(p.len, limit)
	if p.kind == disk.Data && (p.host > r.dataSize || p.host+p.len > r.dataSize) {
		return p, disk.Damaged(
			"data for offset %d is said to lie at %d, but the file ends at %d: it is truncated or its tables are wrong",
			off,
			p.host,
			r.dataSize,
		)
	}
	return p, nil
}

func (r *reader) Size() int64 { return int64(r.size) }

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	return disk.ReadRuns(p, off, r.Size(), func(p []byte, off int64) (int, error) {
		at, err := r.run(off, int64(len(p)))
		if err != nil {
			return 0, err
		}
		p = p[:at.len]
		switch {
		case at.compressed:
			return len(p), r.readCompressed(p, uint64(at.host), off%int64(r.cluster()))
		case at.kind == disk.Data:
			return len(p), disk.ReadFull(r.data, p, at.host)
		case at.kind == disk.Hole && r.base != nil:
			return len(p), disk.ReadBelow(r.base, p, off)
		}
		clear(p)
		return len(p), nil
	})
}

// Locate tells where a run lies that is not compressed.
func (r *reader) Locate(off int64) (disk.Place, error) {
	at, err := r.run(off, r.Size()-off)
	if err == nil && (at.compressed || r.data != r.file) {
		err = errors.ErrUnsupported
	}
	return disk.Place{Extent: disk.Extent{Off: off, Len: at.len, Kind: at.kind}, File: r.files[len(r.files)-1], At: at.host}, err
}

func (r *reader) Extent(off int64) (disk.Extent, error) {
	at, err := r.run(off, r.Size()-off)
	e := disk.Extent{Off: off, Len: at.len, Kind: at.kind}
	if err == nil && e.Kind == disk.Data && !at.compressed && r.base == nil && r.isThick() {
		return disk.WithHoles(r.data, e, at.host)
	}
	if err != nil || e.Kind != disk.Hole || r.base == nil {
		return e, err
	}
	return disk.ExtentBelow(r.base, e)
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format:      "qcow2",
		Layout:      thin,
		Version:     strconv.Itoa(int(r.version)),
		VirtualSize: r.Size(),
		BlockSize:   int64(r.cluster()),
		SectorSize:  512,
		Files:       disk.OpenedFirst(r.files),
		Dirty:       r.incompatible&dirtyBit != 0,
	}
	for _, s := range r.snapshots {
		d.Snapshots = append(d.Snapshots, s.name)
	}
	switch {
	case r.base != nil:
		d.Layout = overlay
		d.StandOn(r.base, r.header.base)
	case r.isCompressed():
		d.Layout = compressed
	case r.isThick():
		d.Layout = thick
	}
	if d.Dirty {
		d.Warnings = append(d.Warnings, "the image was not closed properly; its content is complete up to the last flush of the guest")
	}
	if r.incompatible&corruptBit != 0 {
		d.Warnings = append(d.Warnings, "a hypervisor has marked the image as corrupt")
	}
	if r.bitmaps > 0 {
		names, err := r.bitmapNames()
		text := strings.Join(names, ", ")
		if err != nil {
			text = err.Error()
		}
		d.Warnings = append(
			d.Warnings,
			fmt.Sprintf("%d bitmaps of changed blocks are kept in the image (%s): they are not taken along", r.bitmaps, text),
		)
	}
	return d
}

// maxLooked is after how many entries of its tables a description stops to look for a compressed cluster: it has to be cheap.
const maxLooked = 1 << 16

// isCompressed: there is a compressed cluster, as far as that is seen soon. One that did not shrink is stored plain.
func (r *reader) isCompressed() bool {
	off := int64(0)
	for range maxLooked {
		if off >= r.Size() {
			break
		}
		p, err := r.at(off)
		if err != nil || p.compressed {
			return err == nil
		}
		off += p.len
	}
	return r.compression == compressionZstd
}

// isThick: the first and the last cluster have a place. An image that was allocated from the start has one for every
// cluster, and looking at all would not be cheap.
func (r *reader) isThick() bool {
	if r.Size() == 0 {
		return false
	}
	first, err1 := r.at(0)
	last, err2 := r.at(r.Size() - 1)
	return err1 == nil && err2 == nil && first.kind == disk.Data && last.kind == disk.Data && !first.compressed && !last.compressed &&
		uint64(r.fileSize) > r.size
}

func (r *reader) Close() error {
	err := r.file.Close()
	if r.data != r.file {
		err = errors.Join(err, r.data.Close())
	}
	if r.base != nil {
		err = errors.Join(err, r.base.Close())
	}
	return err
}
