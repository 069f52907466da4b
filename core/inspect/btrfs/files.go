package btrfs

import (
	"bytes"
	"compress/zlib"
	"context"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"

	"github.com/klauspost/compress/zstd"
)

// Facts of items of files.
const (
	inodeItem            = 1
	atSize, atMode       = 16, 52
	atModified           = 136
	inodeLen             = 160
	indexItem            = 96
	atIndexData          = 25 // length of what comes behind the name
	atNameLen, atName    = 27, 30
	maxName              = 255
	dataItem             = 108
	atRAM, atPacked      = 8, 16
	atEncrypted, atOther = 17, 18
	atDataKind, atInline = 20, 21
	atDiskAt, atDiskLen  = 21, 29
	atDataFrom, atNum    = 37, 45
	dataLen              = 53
	inline, reservedOnly = 0, 2
	byZlib, byZstd       = 1, 3
	maxPacked            = 128 << 10 // that is packed at once
	maxUnpacked          = 512 << 20 // of a file that is packed
	rootDir              = 256
	maxTrees             = 1 << 15
	treeShift            = 48
)

// kinds are those of files, by the upper bits of their mode (POSIX).
var kinds = map[uint32]fs.FileMode{
	0o040000: fs.ModeDir,
	0o120000: fs.ModeSymlink,
	0o020000: fs.ModeDevice | fs.ModeCharDevice,
	0o060000: fs.ModeDevice,
	0o010000: fs.ModeNamedPipe,
	0o140000: fs.ModeSocket,
}

// Root is the folder at the top. Nodes are the number of a tree, and that of an inode in it.
func (v *volume) Root() uint64 { return rootDir }

// stub is the folder that a snapshot has where what it was taken of has a subvolume: nothing is in it.
const stub = uint64(1<<16-1) << treeShift

// in returns the root of the tree of a node, and its inode.
func (v *volume) in(node uint64) (root, inode uint64, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	number := node >> treeShift
	if number >= uint64(len(v.roots)) {
		return 0, 0, disk.Damaged("a file of the tree %d, of %d", number, len(v.roots))
	}
	return v.roots[number], node & (1<<treeShift - 1), nil
}

// subvolume is the node of the folder at the top of one, by the folder of a tree that names it.
func (v *volume) subvolume(id, folder uint64) (uint64, error) {
	v.mu.Lock()
	within, number := v.trees[folder>>treeShift], slices.Index(v.trees, id)
	v.mu.Unlock()
	if refers, err := v.refers(within, id, folder&(1<<treeShift-1)); err != nil || !refers {
		return stub, err
	}
	if number < 0 {
		root, err := v.tree(id)
		if err != nil {
			return 0, err
		}
		v.mu.Lock()
		defer v.mu.Unlock()
		if number = len(v.trees); number >= maxTrees {
			return 0, disk.Damaged("more than %d subvolumes", maxTrees)
		}
		v.trees, v.roots = append(v.trees, id), append(v.roots, root)
	}
	return uint64(number)<<treeShift | rootDir, nil
}

// refers tells whether a subvolume is at home in a folder of a tree.
func (v *volume) refers(tree, id, folder uint64) (yes bool, err error) {
	at := key{tree, rootRef, id}
	err = v.walk(context.Background(), v.root, at, func(k key, b []byte) (bool, error) {
		yes = k == at && len(b) >= 8 && le.Uint64(b) == folder
		return false, nil
	})
	return yes, err
}

// Stat says what a file is.
func (v *volume) Stat(node uint64) (info inspect.Info, err error) {
	if node == stub {
		return inspect.Info{Mode: fs.ModeDir | 0o555}, nil
	}
	root, inode, err := v.in(node)
	if err != nil {
		return info, err
	}
	found := false
	err = v.walk(context.Background(), root, key{inode, inodeItem, 0}, func(k key, b []byte) (bool, error) {
		if k.objectid != inode || k.kind != inodeItem || len(b) < inodeLen {
			return false, nil
		}
		mode, size := le.Uint32(b[atMode:]), le.Uint64(b[atSize:])
		if size > 1<<62 {
			return false, disk.Damaged("a file of %d bytes", size)
		}
		found = true
		info.Mode, info.Size = fs.FileMode(mode&0o777)|kinds[mode&0o170000], int64(size)
		info.Modified = time.Unix(int64(le.Uint64(b[atModified:])), int64(le.Uint32(b[atModified+8:])))
		if info.Mode.IsDir() {
			info.Size = 0
		}
		return false, nil
	})
	if err == nil && !found {
		err = disk.Damaged("it has no inode %d", inode)
	}
	return info, err
}

// List reads a folder.
func (v *volume) List(folder uint64) (all []inspect.Entry, err error) {
	if folder == stub {
		return nil, nil
	}
	root, inode, err := v.in(folder)
	if err != nil {
		return nil, err
	}
	err = v.walk(context.Background(), root, key{inode, indexItem, 0}, func(k key, b []byte) (bool, error) {
		if k.objectid != inode || k.kind != indexItem {
			return false, nil
		}
		if len(b) < atName {
			return false, disk.Damaged("a name of %d bytes", len(b))
		}
		to, n := readKey(b), int(le.Uint16(b[atNameLen:]))
		if n > maxName || atName+n > len(b) || len(all) >= inspect.MaxNames {
			return false, disk.Damaged("a name of %d letters, or too many", n)
		}
		node := folder&^(1<<treeShift-1) | to.objectid
		switch {
		case to.objectid >= 1<<treeShift:
			return false, disk.Damaged("a file with the inode %d", to.objectid)
		case to.kind == rootItem:
			if node, err = v.subvolume(to.objectid, folder); err != nil {
				return false, err
			}
		}
		all = append(all, inspect.Entry{Name: storage.ShownName(string(b[atName : atName+n])), Node: node})
		return true, nil
	})
	return all, err
}

// Pieces returns where a file or link lies. What is packed or kept with what describes it is unpacked.
func (v *volume) Pieces(node uint64) (all []inspect.Piece, err error) {
	if node == stub {
		return nil, nil
	}
	root, inode, err := v.in(node)
	if err != nil {
		return nil, err
	}
	unpacked := int64(0)
	err = v.walk(context.Background(), root, key{inode, dataItem, 0}, func(k key, b []byte) (bool, error) {
		if k.objectid != inode || k.kind != dataItem {
			return false, nil
		}
		p, err := v.piece(k.offset, b)
		if err != nil || p.Len == 0 {
			return err == nil, err
		}
		if last := len(all) - 1; last >= 0 && all[last].Off+all[last].Len > p.Off {
			return false, disk.Damaged("a file whose parts overlap, at %d", p.Off)
		}
		if unpacked += int64(len(p.Data)); unpacked > maxUnpacked {
			return false, disk.Unsupported("a packed file of more than %d bytes", int64(maxUnpacked))
		}
		all = append(all, p)
		return true, nil
	})
	return all, err
}

// piece is a part of a file; one without length where there is a hole.
func (v *volume) piece(off uint64, b []byte) (p inspect.Piece, err error) {
	if len(b) <= atInline || off > 1<<62 {
		return p, disk.Damaged("a part of a file of %d bytes at %d", len(b), off)
	}
	packed, ram := b[atPacked], le.Uint64(b[atRAM:])
	if b[atEncrypted] != 0 || le.Uint16(b[atOther:]) != 0 {
		return p, disk.Unsupported("an encrypted file")
	}
	p.Off = int64(off)
	if b[atDataKind] == inline {
		if p.Data, err = unpack(packed, b[atInline:], ram); err == nil {
			p.Len = int64(len(p.Data))
		}
		return p, err
	}
	if len(b) < dataLen {
		return p, disk.Damaged("a part of a file of %d bytes", len(b))
	}
	at, length, from, n := le.Uint64(b[atDiskAt:]), le.Uint64(b[atDiskLen:]), le.Uint64(b[atDataFrom:]), le.Uint64(b[atNum:])
	if at == 0 || b[atDataKind] == reservedOnly { // a hole, or reserved, which reads as zeros
		return p, nil
	}
	if at > 1<<61 || length > uint64(v.size) || from > 1<<61 || n > uint64(v.size) && packed == 0 || n > 1<<61 {
		return p, disk.Damaged("a part of a file of %d bytes at the address %d", n, at)
	}
	p.Len = int64(n)
	if packed == 0 {
		places, err := v.places(int64(at+from), int64(n))
		if err != nil {
			return p, err
		}
		p.At = places[0]
		return p, nil
	}
	if length > maxPacked || ram > maxPacked || from+n > ram {
		return p, disk.Damaged("%d packed bytes of %d", length, ram)
	}
	places, err := v.places(int64(at), int64(length))
	if err != nil {
		return p, err
	}
	stored := make([]byte, length)
	if _, err := v.r.ReadAt(stored, places[0]); err != nil {
		return p, err
	}
	whole, err := unpack(packed, stored, ram)
	if err != nil {
		return p, err
	}
	if uint64(len(whole)) < from+n { // what it lacks is zeros
		whole = append(whole, make([]byte, from+n-uint64(len(whole)))...)
	}
	p.Data = whole[from : from+n]
	return p, nil
}

// unpack returns no more than so many bytes.
func unpack(by byte, b []byte, ram uint64) (out []byte, err error) {
	if by == 0 {
		return slices.Clone(b), nil
	}
	if ram > maxPacked {
		return nil, disk.Damaged("%d bytes packed at once", ram)
	}
	var r io.Reader
	switch by {
	case byZlib:
		r, err = zlib.NewReader(bytes.NewReader(b))
	case byZstd:
		var d *zstd.Decoder
		if d, err = zstd.NewReader(bytes.NewReader(b), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20)); err == nil {
			defer d.Close()
			r = d
		}
	default:
		return nil, disk.Unsupported("a file that is packed in a way (%d) that is not read", by)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: unpacking a file: %w", disk.ErrDamaged, err)
	}
	out = make([]byte, ram)
	n, err := io.ReadFull(r, out)
	if err != nil && n == 0 {
		return nil, fmt.Errorf("%w: unpacking a file: %w", disk.ErrDamaged, err)
	}
	return out[:n], nil // the last part of a file is shorter
}
