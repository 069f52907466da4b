package ext

import (
	"io/fs"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
)

// Facts of inodes ("Index Nodes").
const (
	inodeMode, inodeSize, inodeModified = 0x0, 0x4, 0x10
	inodeBlocks, inodeFlags, inodeBlock = 0x1c, 0x20, 0x28
	inodeSizeHigh                       = 0x6c
	inodeExtra                          = 0x80 // length of what is behind the first 128 bytes

	blockSize  = 60 // of i_block, in bytes
	ofPointers = 12 // direct ones, before three of blocks of pointers

	flagEncrypted = 0x800
	flagExtents   = 0x80000
	flagInline    = 0x10000000

	attributesMagic = 0xea020000
)

// Facts of trees of extents ("Extent Tree").
const (
	extentMagic    = 0xf30a
	extentSize     = 12
	maxExtentDepth = 5
	unwritten      = 32768 // lengths above it are of extents that read as zeros
	maxPieces      = 8 << 20
)

// Root is the folder at the top.
func (v *volume) Root() uint64 { return rootInode }

// inode reads one.
func (v *volume) inode(number uint64) ([]byte, error) {
	n := int64(number) - 1
	if number == 0 || n < 0 || n >= v.inodes {
		return nil, disk.Damaged("inode %d of %d", number, v.inodes)
	}
	d, err := v.descriptor(n / v.inodesPer)
	if err != nil {
		return nil, err
	}
	return v.read(high(d, groupTable, tableHigh)*v.block+n%v.inodesPer*v.inodeSize, v.inodeSize)
}

// modes are the types of files by the upper four bits of their mode.
var modes = map[uint16]fs.FileMode{
	0x1: fs.ModeNamedPipe, 0x2: fs.ModeDevice | fs.ModeCharDevice, 0x4: fs.ModeDir, 0x6: fs.ModeDevice,
	0x8: 0, 0xa: fs.ModeSymlink, 0xc: fs.ModeSocket,
}

// Stat says what an inode is.
func (v *volume) Stat(node uint64) (inspect.Info, error) {
	b, err := v.inode(node)
	if err != nil {
		return inspect.Info{}, err
	}
	mode := le.Uint16(b[inodeMode:])
	kind, ok := modes[mode>>12]
	if !ok {
		return inspect.Info{}, disk.Damaged("inode %d is of the type %#x", node, mode>>12)
	}
	i := inspect.Info{
		Mode:     kind | fs.FileMode(mode&0o777),
		Size:     int64(le.Uint32(b[inodeSize:])),
		Modified: time.Unix(int64(int32(le.Uint32(b[inodeModified:]))), 0).UTC(),
	}
	if kind == 0 || kind == fs.ModeDir {
		i.Size |= int64(le.Uint32(b[inodeSizeHigh:])) << 32
	}
	if i.Size < 0 {
		return i, disk.Damaged("inode %d has %d bytes", node, i.Size)
	}
	return i, nil
}

// Pieces returns where the content of an inode lies.
func (v *volume) Pieces(node uint64) ([]inspect.Piece, error) {
	b, err := v.inode(node)
	if err != nil {
		return nil, err
	}
	info, err := v.Stat(node)
	if err != nil {
		return nil, err
	}
	flags := le.Uint32(b[inodeFlags:])
	inBlock := b[inodeBlock : inodeBlock+blockSize]
	switch {
	case flags&flagEncrypted != 0:
		return nil, disk.Unsupported("it is encrypted")
	case flags&flagInline != 0:
		return []inspect.Piece{{Len: info.Size, Data: v.inline(b, inBlock, info.Size)}}, nil
	case info.Mode&fs.ModeSymlink != 0 && info.Size < blockSize && flags&flagExtents == 0 && le.Uint32(b[inodeBlocks:]) == 0:
		return []inspect.Piece{{Len: info.Size, Data: inBlock[:info.Size]}}, nil
	case info.Mode.IsRegular() || info.Mode.IsDir() || info.Mode&fs.ModeSymlink != 0:
	default:
		return nil, nil
	}
	w := walk{v: v, size: info.Size}
	if flags&flagExtents != 0 {
		err = w.extents(inBlock, -1)
	} else {
		err = w.pointers(inBlock)
	}
	return w.pieces, err
}

// inline is what an inode has of its content in itself: the rest is an attribute behind it.
func (v *volume) inline(b, inBlock []byte, size int64) []byte {
	data := append([]byte{}, inBlock...)
	if v.inodeSize > 128 {
		at := 128 + int(le.Uint16(b[inodeExtra:]))
		if at+4 <= len(b) && le.Uint32(b[at:]) == attributesMagic {
			data = append(data, inlineRest(b[at+4:])...)
		}
	}
	return data[:min(size, int64(len(data)))]
}

// inlineRest finds the attribute system.data ("Extended Attributes").
func inlineRest(b []byte) []byte {
	for at := 0; at+16 <= len(b) && le.Uint32(b[at:]) != 0; {
		nameLen, index := int(b[at]), b[at+1]
		offset, size := int(le.Uint16(b[at+2:])), int(le.Uint32(b[at+8:]))
		if at+16+nameLen > len(b) {
			return nil
		}
		if index == 7 && string(b[at+16:at+16+nameLen]) == "data" && size >= 0 && offset+size <= len(b) {
			return b[offset : offset+size]
		}
		at += (16 + nameLen + 3) &^ 3
	}
	return nil
}

// walk collects the pieces of an inode.
type walk struct {
	v      *volume
	size   int64
	pieces []inspect.Piece
}

// add adds blocks of the file, from logical on, that lie at a block. Those behind its end are of no interest.
func (w *walk) add(logical, at, count int64) error {
	off := logical * w.v.block
	n := min(count*w.v.block, w.size-off)
	if n <= 0 {
		return nil
	}
	if at <= 0 || at > w.v.blocks-count {
		return disk.Damaged("a file has the block %d of %d", at, w.v.blocks)
	}
	at *= w.v.block
	if last := len(w.pieces) - 1; last >= 0 {
		p := &w.pieces[last]
		if off < p.Off+p.Len {
			return disk.Damaged("the extents of a file are not in order")
		}
		if p.Off+p.Len == off && p.At+p.Len == at {
			p.Len += n
			return nil
		}
	}
	if len(w.pieces) >= maxPieces {
		return disk.Damaged("a file has more than %d extents", maxPieces)
	}
	w.pieces = append(w.pieces, inspect.Piece{Off: off, Len: n, At: at})
	return nil
}

// extents walks a node of a tree of them, which has a depth of its own; the root may have any.
func (w *walk) extents(b []byte, depth int) error {
	if le.Uint16(b) != extentMagic {
		return disk.Damaged("a tree of extents without its mark")
	}
	count, is := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if count > len(b)/extentSize-1 || is > maxExtentDepth || depth >= 0 && is != depth {
		return disk.Damaged("a tree of extents with %d entries at depth %d", count, is)
	}
	for i := range count {
		e := b[extentSize*(i+1):][:extentSize]
		logical := int64(le.Uint32(e))
		if is > 0 {
			next, err := w.v.read((int64(le.Uint32(e[4:]))|int64(le.Uint16(e[8:]))<<32)*w.v.block, w.v.block)
			if err == nil {
				err = w.extents(next, is-1)
			}
			if err != nil {
				return err
			}
			continue
		}
		length := int64(le.Uint16(e[4:]))
		if length > unwritten {
			continue
		}
		if err := w.add(logical, int64(le.Uint32(e[8:]))|int64(le.Uint16(e[6:]))<<32, length); err != nil {
			return err
		}
	}
	return nil
}

// pointers walks the older form: pointers to blocks, and to blocks of pointers.
func (w *walk) pointers(b []byte) error {
	logical := int64(0)
	for i := range ofPointers + 3 {
		if err := w.pointer(int64(le.Uint32(b[4*i:])), max(0, i-ofPointers+1), &logical); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) pointer(at int64, level int, logical *int64) error {
	if *logical*w.v.block >= w.size {
		return nil
	}
	covers := int64(1)
	for range level {
		covers *= w.v.block / 4
	}
	if at == 0 {
		*logical += covers
		return nil
	}
	if level == 0 {
		*logical++
		return w.add(*logical-1, at, 1)
	}
	b, err := w.v.read(at*w.v.block, w.v.block)
	for i := 0; err == nil && i < len(b); i += 4 {
		err = w.pointer(int64(le.Uint32(b[i:])), level-1, logical)
	}
	return err
}
