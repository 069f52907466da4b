package qcow2

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// rename changes the names of the base and of the file with the guest's data. The rest of the header stays as it is, whatever it says.
func rename(file storage.File, names map[string]string) (changed bool, err error) {
	size, err := file.Size()
	if err != nil {
		return false, err
	}
	h, first, err := readHeader(file, size)
	if err != nil {
		return false, err
	}
	base, data := disk.Renamed(h.base, names), disk.Renamed(h.dataFile, names)
	if base == h.base && data == h.dataFile {
		return false, nil
	}
	b, err := h.renamed(first, base, data)
	if err != nil {
		return false, err
	}
	if _, err := file.WriteAt(b, 0); err != nil {
		return false, err
	}
	return true, nil
}

// renamed is what was read of the first cluster, which has nothing but the header in it, with other names.
func (h header) renamed(cluster []byte, base, data string) ([]byte, error) {
	be := binary.BigEndian
	b := bytes.Clone(cluster[:h.length])
	end := h.extensionsEnd(cluster)
	for at := int(h.length); at+8 <= end; {
		kind, n := be.Uint32(cluster[at:]), int(be.Uint32(cluster[at+4:])) // decodeExtensions bounded it
		if kind == extEnd {
			break
		}
		value := cluster[at+8 : at+8+n]
		if kind == extDataFile {
			value = []byte(data)
		}
		b = append(be.AppendUint32(be.AppendUint32(b, kind), uint32(len(value))), value...)
		b = append(b, make([]byte, (8-len(b)%8)%8)...)
		at += 8 + (n+7)/8*8
	}
	b = append(b, make([]byte, 8)...) // the end of the extensions
	if h.baseOffset > 0 {
		be.PutUint64(b[8:], uint64(len(b)))
		be.PutUint32(b[16:], uint32(len(base)))
		b = append(b, base...)
	}
	if uint64(len(b)) > h.cluster() || len(base) > maxName || len(data) > maxName {
		return nil, fmt.Errorf("the header has no room for longer names: choose a shorter one")
	}
	return append(b, make([]byte, max(0, len(cluster)-len(b)))...), nil
}
