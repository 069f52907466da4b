package ext

import (
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

// maxFolder bounds a folder, in bytes.
const maxFolder = 1 << 30

// inlineEntries is where the entries of a folder begin that lies in its inode: behind the number of the one above.
const inlineEntries = 4

// List reads a folder ("Directory Entries"): its blocks one by one, whether there is an index of them or not, which looks like empty entries.
func (v *volume) List(node uint64) ([]inspect.Entry, error) {
	info, err := v.Stat(node)
	if err != nil {
		return nil, err
	}
	if !info.Mode.IsDir() || info.Size > maxFolder {
		return nil, disk.Damaged("inode %d is no folder", node)
	}
	pieces, err := v.Pieces(node)
	if err != nil {
		return nil, err
	}
	var all []inspect.Entry
	for _, p := range pieces {
		if p.Data != nil {
			if len(p.Data) > inlineEntries {
				head := p.Data[inlineEntries:min(len(p.Data), blockSize)]
				if all, err = v.entries(all, head); err == nil && len(p.Data) > blockSize {
					all, err = v.entries(all, p.Data[blockSize:])
				}
			}
			if err != nil {
				return nil, err
			}
			continue
		}
		for off := int64(0); off < p.Len; off += v.block {
			b, err := v.read(p.At+off, v.block)
			if err == nil {
				all, err = v.entries(all, b)
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// entries adds those of a block.
func (v *volume) entries(all []inspect.Entry, b []byte) ([]inspect.Entry, error) {
	for at := 0; at+8 <= len(b); {
		inode, length, nameLen := le.Uint32(b[at:]), int(le.Uint16(b[at+4:])), int(b[at+6])
		if length == 0 && v.block == 64<<10 || length == 65535 { // a whole block
			length = len(b) - at
		}
		if length < 8 || length > len(b)-at || nameLen > length-8 {
			return nil, disk.Damaged("an entry of a folder with %d bytes", length)
		}
		name := string(b[at+8 : at+8+nameLen])
		if inode != 0 && name != "." && name != ".." && name != "" {
			if len(all) >= inspect.MaxNames {
				return nil, disk.Damaged("a folder has more than %d names", inspect.MaxNames)
			}
			all = append(all, inspect.Entry{Name: storage.ShownName(name), Node: uint64(inode)})
		}
		at += length
	}
	return all, nil
}
