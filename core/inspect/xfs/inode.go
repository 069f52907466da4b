package xfs

import (
	"io/fs"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
)

// Facts of inodes ("On-disk Inode").
const (
	inodeMagic                                 = "IN"
	inodeMode, inodeVersion, inodeFormat       = 2, 4, 5
	inodeManyExtents, inodeModified            = 24, 40
	inodeLength, inodeExtents, inodeFork       = 56, 76, 82
	inodeFlags, inodeFlags2                    = 90, 120
	core2, core3                               = 100, 176
	inInode, inExtents, inTree                 = 1, 2, 3
	isRealtime                                 = 0x1
	isBigTime, hasManyExtents                  = 0x8, 0x10
	epoch                                      = 1 << 31 // seconds before 1970, where large times begin
	extentSize                                 = 16
	treeMagic4, treeMagic5                     = "BMAP", "BMA3"
	longHeader4, longHeader5             int64 = 24, 72
	maxPieces                                  = 8 << 20
	linkHeader                                 = 56 // of each block of a link, of version 5
)

// Root is the folder at the top.
func (v *volume) Root() uint64 { return v.root }

// core reads an inode, and returns it with its part that tells where the data is.
func (v *volume) core(number uint64) (b, fork []byte, err error) {
	block, err := v.at(number >> v.inodesShift)
	if err != nil {
		return nil, nil, err
	}
	if b, err = v.read(block+int64(number&(1<<v.inodesShift-1))*v.inode, v.inode); err != nil {
		return nil, nil, err
	}
	if string(b[:2]) != inodeMagic {
		return nil, nil, disk.Damaged("inode %d has no mark", number)
	}
	begin := core2
	if b[inodeVersion] == 3 {
		begin = core3
	}
	end := len(b)
	if off := int(b[inodeFork]) * 8; off > 0 {
		end = begin + off
	}
	if end > len(b) {
		return nil, nil, disk.Damaged("inode %d has a fork of %d bytes", number, end-begin)
	}
	return b, b[begin:end], nil
}

// modes are the types of files by the upper four bits of their mode.
var modes = map[uint16]fs.FileMode{
	0x1: fs.ModeNamedPipe,
	0x2: fs.ModeDevice | fs.ModeCharDevice,
	0x4: fs.ModeDir,
	0x6: fs.ModeDevice,
	0x8: 0,
	0xa: fs.ModeSymlink,
	0xc: fs.ModeSocket,
}

// Stat says what an inode is.
func (v *volume) Stat(node uint64) (i inspect.Info, err error) {
	b, _, err := v.core(node)
	if err != nil {
		return i, err
	}
	mode := be.Uint16(b[inodeMode:])
	kind, ok := modes[mode>>12]
	i = inspect.Info{Mode: kind | fs.FileMode(mode&0o777), Size: int64(be.Uint64(b[inodeLength:]))}
	if !ok || i.Size < 0 {
		return i, disk.Damaged("inode %d is of the type %#x, and has %d bytes", node, mode>>12, i.Size)
	}
	i.Modified = time.Unix(int64(int32(be.Uint32(b[inodeModified:]))), 0).UTC()
	if b[inodeVersion] == 3 && be.Uint64(b[inodeFlags2:])&isBigTime != 0 {
		i.Modified = time.Unix(int64(be.Uint64(b[inodeModified:])/1e9)-epoch, 0).UTC()
	}
	return i, nil
}

// Pieces returns where the content of an inode lies.
func (v *volume) Pieces(node uint64) ([]inspect.Piece, error) {
	b, fork, err := v.core(node)
	if err != nil {
		return nil, err
	}
	info, err := v.Stat(node)
	if err != nil {
		return nil, err
	}
	link := info.Mode&fs.ModeSymlink != 0
	switch {
	case !info.Mode.IsRegular() && !info.Mode.IsDir() && !link:
		return nil, nil
	case be.Uint16(b[inodeFlags:])&isRealtime != 0:
		return nil, disk.Unsupported("it lies on another device of the filesystem")
	}
	w := walk{volume: v, size: info.Size}
	if info.Mode.IsDir() { // what is behind its size, is its index
		w.size = foldersEnd
	}
	switch b[inodeFormat] {
	case inInode:
		if info.Size > int64(len(fork)) {
			return nil, disk.Damaged("inode %d has %d bytes in itself", node, info.Size)
		}
		return []inspect.Piece{{Len: info.Size, Data: append([]byte{}, fork[:info.Size]...)}}, nil
	case inExtents:
		count := int64(be.Uint32(b[inodeExtents:]))
		if b[inodeVersion] == 3 && be.Uint64(b[inodeFlags2:])&hasManyExtents != 0 {
			count = int64(be.Uint64(b[inodeManyExtents:]) & (1<<48 - 1))
		}
		if count > int64(len(fork)/extentSize) {
			return nil, disk.Damaged("inode %d has %d extents in itself", node, count)
		}
		err = w.records(fork[:count*extentSize])
	case inTree:
		err = w.rootOf(fork)
	default:
		return nil, disk.Damaged("inode %d has its data in the form %d", node, b[inodeFormat])
	}
	if link && v.version == 5 && err == nil {
		return v.linked(w.pieces, info.Size)
	}
	return w.pieces, err
}

// linked is the content of a long link, whose blocks have headers.
func (v *volume) linked(pieces []inspect.Piece, size int64) ([]inspect.Piece, error) {
	var text []byte
	for _, p := range pieces {
		for off := int64(0); off < p.Len && int64(len(text)) < size; off += v.block {
			b, err := v.read(p.At+off, v.block)
			if err != nil {
				return nil, err
			}
			text = append(text, b[linkHeader:]...)
		}
	}
	if int64(len(text)) < size {
		return nil, disk.Damaged("a link of %d bytes", size)
	}
	return []inspect.Piece{{Len: size, Data: text[:size]}}, nil
}

// walk collects the pieces of an inode.
type walk struct {
	*volume
	size   int64
	pieces []inspect.Piece
}

// records adds extents ("Data Extents"): a bit for those that read as zeros, 54 of where in the file, 52 of where on the disk, 21 of how many blocks.
func (w *walk) records(b []byte) error {
	for ; len(b) >= extentSize; b = b[extentSize:] {
		high, low := be.Uint64(b), be.Uint64(b[8:])
		off := int64(high>>9&(1<<54-1)) * w.block
		count := int64(low & (1<<21 - 1))
		if high>>63 == 1 || off < 0 || off >= w.size {
			continue
		}
		at, err := w.at(high&(1<<9-1)<<43 | low>>21)
		if err != nil {
			return err
		}
		n := min(count*w.block, w.size-off)
		if n <= 0 || at > w.blocks*w.block-count*w.block {
			return disk.Damaged("an extent of %d blocks", count)
		}
		if last := len(w.pieces) - 1; last >= 0 && off < w.pieces[last].Off+w.pieces[last].Len {
			return disk.Damaged("the extents of a file are not in order")
		}
		if len(w.pieces) >= maxPieces {
			return disk.Damaged("a file has more than %d extents", maxPieces)
		}
		w.pieces = append(w.pieces, inspect.Piece{Off: off, Len: n, At: at})
	}
	return nil
}

// rootOf walks the tree of extents whose root lies in the inode ("B+tree Extent List").
func (w *walk) rootOf(fork []byte) error {
	if len(fork) < 4 {
		return disk.Damaged("a tree of extents of %d bytes", len(fork))
	}
	level, count, most := int(be.Uint16(fork)), int(be.Uint16(fork[2:])), (len(fork)-4)/16
	if level < 1 || level > maxLevels || count > most {
		return disk.Damaged("a tree of extents with %d entries at level %d", count, level)
	}
	for i := range count {
		if err := w.node(be.Uint64(fork[4+8*most+8*i:]), level-1); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) node(block uint64, level int) error {
	at, err := w.at(block)
	if err != nil {
		return err
	}
	b, err := w.read(at, w.block)
	if err != nil {
		return err
	}
	count, most := int64(be.Uint16(b[6:])), (w.block-w.longHdr)/extentSize
	if mark := string(b[:4]); mark != treeMagic4 && mark != treeMagic5 || int(be.Uint16(b[4:])) != level || count > most {
		return disk.Damaged("a tree of extents with %d entries at level %d", count, level)
	}
	if level == 0 {
		return w.records(b[w.longHdr : w.longHdr+count*extentSize])
	}
	for i := range count {
		if err := w.node(be.Uint64(b[w.longHdr+8*most+8*i:]), level-1); err != nil {
			return err
		}
	}
	return nil
}
