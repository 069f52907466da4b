package ntfs

import (
	"io/fs"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

// Facts of indexes ("Index Root", "Index Record", "Index Entry").
const (
	indexName      = "$I30" // of names
	indexMark      = "INDX"
	rootHeader     = 16 // of an index root, before where its entries are
	blockHeader    = 24 // of a block, likewise
	entryMore      = 0x1
	entryLast      = 0x2
	nameInEntry    = 16 // where the name attribute is in an entry
	maxIndexBlocks = 1 << 20
)

// Facts of names ("File Name"): where their letters are, and the namespace that only has short ones.
const (
	atNameLength, atNamespace, atLetters = 64, 65, 66
	onlyShort                            = 2
)

// Tags of reparse points that are links.
const (
	symlinkTag = 0xa000000c
	mountTag   = 0xa0000003
)

// epoch is where its times begin, in hundreds of nanoseconds before 1970.
const epoch = 116444736000000000

// Root is the folder at the top.
func (v *volume) Root() uint64 { return rootRecord }

// AnyCase tells that names which differ in case only are the same.
func (v *volume) AnyCase() {}

// Stat says what a record is. What is a link of the system that made it is neither a file nor a folder here.
func (v *volume) Stat(node uint64) (i inspect.Info, err error) {
	b, err := v.raw(node)
	if err != nil {
		return i, err
	}
	attrs, err := v.attributes(node)
	if err != nil {
		return i, err
	}
	i.Mode = 0o644
	if le.Uint16(b[atFlag:])&isFolder != 0 {
		i.Mode = fs.ModeDir | 0o755
	}
	for _, a := range attrs {
		switch {
		case a.kind == ofStandard && len(a.value) >= 16:
			i.Modified = time.Unix(0, 0).Add(0).UTC()
			if t := int64(le.Uint64(a.value[8:])) - epoch; t > -epoch && t < 1<<62 {
				i.Modified = time.Unix(t/1e7, t%1e7*100).UTC()
			}
		case a.kind == ofReparse && len(a.value) >= 4:
			if tag := le.Uint32(a.value); tag == symlinkTag || tag == mountTag {
				i.Mode = fs.ModeIrregular
			}
		case a.kind == ofData && a.name == "" && a.first == 0 && i.Mode.IsRegular():
			i.Size = a.size
		}
	}
	return i, nil
}

// Pieces returns where a file lies: its stream without a name. What was never written reads as zeros.
func (v *volume) Pieces(node uint64) (all []inspect.Piece, err error) {
	attrs, err := v.attributes(node)
	if err != nil {
		return nil, err
	}
	kind, name := uint32(ofData), ""
	if b, err := v.raw(node); err == nil && le.Uint16(b[atFlag:])&isFolder != 0 {
		kind, name = ofIndex, indexName
	}
	a, err := v.stream(attrs, kind, name)
	switch {
	case err != nil && kind == ofIndex: // a small folder is in its record
		return nil, nil
	case err != nil:
		return nil, err
	case a.flags&isEncrypted != 0:
		return nil, disk.Unsupported("it is encrypted")
	case a.flags&isCompressed != 0:
		return v.unpacked(a)
	case a.value != nil:
		return []inspect.Piece{{Len: a.size, Data: append([]byte{}, a.value...)}}, nil
	}
	var off int64
	end := min(a.size, a.initialised)
	for _, r := range a.runs {
		n := min(r.count*v.cluster, end-off)
		if n <= 0 {
			break
		}
		if r.at >= 0 {
			all = append(all, inspect.Piece{Off: off, Len: n, At: r.at * v.cluster})
		}
		off += n
	}
	return all, nil
}

// List reads a folder: what is in its record, and each block of its index, wherever that stands in the tree.
func (v *volume) List(node uint64) (all []inspect.Entry, err error) {
	attrs, err := v.attributes(node)
	if err != nil {
		return nil, err
	}
	root, err := v.stream(attrs, ofRoot, indexName)
	if err != nil || len(root.value) < rootHeader+16 {
		return nil, disk.Damaged("record %d is no folder", node)
	}
	if all, err = v.entries(all, root.value[rootHeader:]); err != nil {
		return nil, err
	}
	size := int64(le.Uint32(root.value[8:]))
	blocks, err := v.stream(attrs, ofIndex, indexName)
	if err != nil { // all of it is in the record
		return all, nil
	}
	if size < 512 || size > 64<<10 || blocks.size/size > maxIndexBlocks {
		return nil, disk.Damaged("an index with blocks of %d bytes", size)
	}
	b := make([]byte, size)
	for off := int64(0); off+size <= blocks.size; off += size {
		if err := v.readStream(b, blocks, off); err != nil {
			return nil, err
		}
		if string(b[:4]) != indexMark { // it was never used
			continue
		}
		if err := fixed(b); err != nil {
			return nil, err
		}
		if !v.usedBlock(attrs, off/size) {
			continue
		}
		if all, err = v.entries(all, b[blockHeader:]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// usedBlock tells whether a block of an index is one, by its map.
func (v *volume) usedBlock(attrs []attribute, number int64) bool {
	const ofBitmap = 0xb0
	a, err := v.stream(attrs, ofBitmap, indexName)
	if err != nil {
		return true
	}
	b := make([]byte, 1)
	return v.readStream(b, a, number/8) == nil && b[0]&(1<<(number%8)) != 0
}

// entries adds the names of a node of an index, of which b begins with where its entries are.
func (v *volume) entries(all []inspect.Entry, b []byte) ([]inspect.Entry, error) {
	at, end := int(le.Uint32(b)), int(le.Uint32(b[4:]))
	if at < 16 || end > len(b) || at > end {
		return nil, disk.Damaged("a node of an index with entries from %d to %d of %d", at, end, len(b))
	}
	for at+16 <= end {
		e := b[at:end]
		length, flags := int(le.Uint16(e[8:])), le.Uint16(e[12:])
		if length < 16 || length > len(e) {
			return nil, disk.Damaged("an entry of an index of %d bytes", length)
		}
		if flags&entryLast != 0 {
			return all, nil
		}
		name := e[nameInEntry:length]
		if len(name) < atLetters || atLetters+2*int(name[atNameLength]) > len(name) {
			return nil, disk.Damaged("the name of an entry of an index")
		}
		node := le.Uint64(e) & numberMask
		if name[atNamespace] != onlyShort && node >= firstUser {
			if len(all) >= inspect.MaxNames {
				return nil, disk.Damaged("a folder has more than %d names", inspect.MaxNames)
			}
			letters := text16(name[atLetters : atLetters+2*int(name[atNameLength])])
			all = append(all, inspect.Entry{Name: storage.ShownName(letters), Node: node})
		}
		at += length
	}
	return all, nil
}
