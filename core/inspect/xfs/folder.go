package xfs

import (
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

// Facts of folders ("Directories"): their entries lie before an offset, behind which is their index; marks of blocks with entries, alone and of
// several, by version.
const (
	foldersEnd           = 32 << 30
	alone4, alone5       = "XD2B", "XDB3"
	several4, several5   = "XD2D", "XDD3"
	dataHeader4          = 16
	dataHeader5          = 64
	tailSize, indexEntry = 8, 8 // at the end of a block that is alone
	freeTag              = 0xffff
	isShort, manyInodes  = 1, 8
	shortHead, fewInodes = 2, 4
)

// List reads a folder.
func (v *volume) List(node uint64) (all []inspect.Entry, err error) {
	b, fork, err := v.core(node)
	if err != nil {
		return nil, err
	}
	info, err := v.Stat(node)
	if err == nil && !info.Mode.IsDir() {
		err = disk.Damaged("inode %d is no folder", node)
	}
	if err != nil {
		return nil, err
	}
	if b[inodeFormat] == isShort {
		return v.short(fork[:min(int64(len(fork)), info.Size)])
	}
	pieces, err := v.Pieces(node)
	if err != nil {
		return nil, err
	}
	var block []byte // of the folder, of which each block of the disk may lie elsewhere
	for _, p := range pieces {
		for off := int64(0); off < p.Len; off += v.block {
			if (p.Off+off)%v.folder == 0 {
				block = nil
			}
			b, err := v.read(p.At+off, v.block)
			if block = append(block, b...); err == nil && int64(len(block)) == v.folder {
				all, err = v.entries(all, block)
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// short reads a folder that lies in its inode.
func (v *volume) short(b []byte) (all []inspect.Entry, err error) {
	if len(b) < shortHead {
		return nil, disk.Damaged("a folder of %d bytes", len(b))
	}
	width := fewInodes
	if b[1] > 0 {
		width = manyInodes
	}
	count := int(b[0])
	if b[1] > 0 {
		count = max(count, int(b[1]))
	}
	at := shortHead + width // behind the one above
	for range count {
		if at >= len(b) {
			return nil, disk.Damaged("a folder of %d bytes", len(b))
		}
		n := int(b[at])
		name := at + 3
		inode := name + n
		if v.types {
			inode++
		}
		if inode+width > len(b) {
			return nil, disk.Damaged("a folder of %d bytes", len(b))
		}
		number := uint64(be.Uint32(b[inode:]))
		if width == manyInodes {
			number = be.Uint64(b[inode:])
		}
		all = append(all, inspect.Entry{Name: storage.ShownName(string(b[name : name+n])), Node: number})
		at = inode + width
	}
	return all, nil
}

// entries adds those of a block.
func (v *volume) entries(all []inspect.Entry, b []byte) ([]inspect.Entry, error) {
	at, end := dataHeader4, len(b)
	switch mark := string(b[:4]); mark {
	case alone4, alone5:
		end -= tailSize + indexEntry*int(be.Uint32(b[len(b)-tailSize:]))
		if mark == alone5 {
			at = dataHeader5
		}
	case several5:
		at = dataHeader5
	case several4:
	default:
		return nil, disk.Damaged("a block of a folder without its mark")
	}
	if end < at || end > len(b) {
		return nil, disk.Damaged("a block of a folder with entries up to %d", end)
	}
	for at+8 <= end {
		if be.Uint16(b[at:]) == freeTag {
			length := int(be.Uint16(b[at+2:]))
			if length < 8 {
				return nil, disk.Damaged("a gap of %d bytes in a folder", length)
			}
			at += length
			continue
		}
		if at+12 > end {
			return nil, disk.Damaged("an entry of a folder at %d", at)
		}
		n := int(b[at+8])
		length := 8 + 1 + n + 2
		if v.types {
			length++
		}
		if length = (length + 7) &^ 7; n == 0 || at+length > end {
			return nil, disk.Damaged("an entry of a folder with %d bytes", length)
		}
		if name := string(b[at+9 : at+9+n]); name != "." && name != ".." {
			if len(all) >= inspect.MaxNames {
				return nil, disk.Damaged("a folder has more than %d names", inspect.MaxNames)
			}
			all = append(all, inspect.Entry{Name: storage.ShownName(name), Node: be.Uint64(b[at:])})
		}
		at += length
	}
	return all, nil
}
