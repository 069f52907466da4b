package qcow2

import (
	"encoding/binary"
	"fmt"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// snapshot is an entry of the snapshot table ("Snapshots").
type snapshot struct {
	id, name string
	l1Offset uint64
	l1Length uint32 // entries
	size     uint64 // of the disk
}

const (
	snapshotEntry = 40   // without extra data, id and name
	maxExtra      = 1024 // bytes of extra data
)

// loadSnapshots reads the snapshot table.
func (r *reader) loadSnapshots() ([]snapshot, error) {
	var list []snapshot
	at := int64(r.snapshotOffset)
	b := make([]byte, snapshotEntry)
	for range r.header.snapshots {
		if _, err := r.tables.ReadAt(b, at); err != nil {
			return nil, err
		}
		be := binary.BigEndian
		idLen, nameLen, extra := int64(be.Uint16(b[12:])), int64(be.Uint16(b[14:])), int64(be.Uint32(b[36:]))
		if extra > maxExtra {
			return nil, disk.Damaged("%d bytes of extra data in a snapshot's entry", extra)
		}
		more := make([]byte, extra+idLen+nameLen)
		if _, err := r.tables.ReadAt(more, at+snapshotEntry); err != nil {
			return nil, err
		}
		s := snapshot{l1Offset: be.Uint64(b), l1Length: be.Uint32(b[8:]), size: r.size}
		if extra >= 16 { // version 3: the size of the disk at that time
			s.size = be.Uint64(more[8:])
		}
		s.id, s.name = storage.Printable(string(more[extra:extra+idLen])), storage.Printable(string(more[extra+idLen:]))
		list = append(list, s)
		at += (snapshotEntry + extra + idLen + nameLen + 7) / 8 * 8
	}
	return list, nil
}

// goTo makes a snapshot what is read: the one of that name, or else of that id.
func (r *reader) goTo(name string) error {
	found := r.snapshotOf(func(s snapshot) bool { return s.name == name })
	if found == nil {
		found = r.snapshotOf(func(s snapshot) bool { return s.id == name })
	}
	if found == nil {
		var names []string
		for _, s := range r.snapshots {
			names = append(names, fmt.Sprintf("%q", s.name))
		}
		if len(names) == 0 {
			return fmt.Errorf("there is no snapshot %q: the image has none", name)
		}
		return fmt.Errorf("there is no snapshot %q: the image has %s", name, strings.Join(names, ", "))
	}
	r.l1Offset, r.l1Entries, r.size = found.l1Offset, found.l1Length, found.size
	if err := r.validate(); err != nil {
		return fmt.Errorf("in the snapshot %q: %w", name, err)
	}
	return r.checkL1()
}

func (r *reader) snapshotOf(is func(snapshot) bool) *snapshot {
	for i := range r.snapshots {
		if is(r.snapshots[i]) {
			return &r.snapshots[i]
		}
	}
	return nil
}

const bitmapEntry = 24 // "Bitmap directory": without extra data and name

// bitmapNames reads the directory of persistent bitmaps, which note what has changed since a backup.
func (r *reader) bitmapNames() (names []string, err error) {
	at, end := r.bitmapOffset, r.bitmapOffset+r.bitmapLength
	b := make([]byte, bitmapEntry)
	for range r.bitmaps {
		if at > uint64(r.fileSize) || at+bitmapEntry > end {
			return nil, disk.Damaged("the directory of bitmaps ends before its last entry")
		}
		if _, err := r.tables.ReadAt(b, int64(at)); err != nil {
			return nil, err
		}
		nameLen, extra := int64(binary.BigEndian.Uint16(b[18:])), int64(binary.BigEndian.Uint32(b[20:]))
		if extra > maxExtra {
			return nil, disk.Damaged("%d bytes of extra data in a bitmap's entry", extra)
		}
		name := make([]byte, nameLen)
		if _, err := r.tables.ReadAt(name, int64(at)+bitmapEntry+extra); err != nil {
			return nil, err
		}
		names = append(names, storage.Printable(string(name)))
		at += uint64(bitmapEntry+extra+nameLen+7) / 8 * 8
	}
	return names, nil
}
