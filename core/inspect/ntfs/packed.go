package ntfs

import (
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
)

// Facts of compressed streams: they are stored in units of 16 clusters, of which one with less is compressed, in chunks of 4 KiB.
const (
	unitClusters = 16
	chunk        = 4096
	chunkPacked  = 0x8000
	chunkLength  = 0x0fff
	// maxUnpacked bounds a compressed file that is read, in bytes.
	maxUnpacked = 256 << 20
)

// unpacked returns the content of a compressed stream. Each piece that is stored as it is says where.
func (v *volume) unpacked(a attribute) (all []inspect.Piece, err error) {
	if a.value != nil {
		return []inspect.Piece{{Len: a.size, Data: append([]byte{}, a.value...)}}, nil
	}
	if a.size > maxUnpacked {
		return nil, disk.Unsupported("a compressed file of %d bytes", a.size)
	}
	unit := unitClusters * v.cluster
	var clusters []int64 // of the stream, those that are not stored below zero
	for _, r := range a.runs {
		if int64(len(clusters))+r.count > maxUnpacked/v.cluster+unitClusters {
			return nil, disk.Damaged("a compressed file with too many clusters")
		}
		for i := range r.count {
			if r.at < 0 {
				clusters = append(clusters, -1)
			} else {
				clusters = append(clusters, r.at+i)
			}
		}
	}
	for off := int64(0); off < min(a.size, a.initialised); off += unit {
		first := off / v.cluster
		var stored []byte
		n := 0
		for i := first; i < min(first+unitClusters, int64(len(clusters))) && clusters[i] >= 0; i++ {
			b := make([]byte, v.cluster)
			if _, err := v.r.ReadAt(b, clusters[i]*v.cluster); err != nil {
				return nil, err
			}
			stored = append(stored, b...)
			n++
		}
		if n == 0 {
			continue
		}
		length := min(unit, a.size-off)
		if n < unitClusters {
			if stored, err = unpack(stored, int(length)); err != nil {
				return nil, err
			}
		}
		all = append(all, inspect.Piece{Off: off, Len: length, Data: stored[:min(length, int64(len(stored)))]})
	}
	return all, nil
}

// unpack reads chunks of LZNT1 ([MS-XCA], 2.5), up to so many bytes.
func unpack(b []byte, want int) (out []byte, err error) {
	for len(out) < want && len(b) >= 2 {
		head := le.Uint16(b)
		if head == 0 {
			break
		}
		n := int(head&chunkLength) + 1
		if b = b[2:]; n > len(b) {
			return nil, disk.Damaged("a compressed chunk of %d bytes", n)
		}
		start := len(out)
		if head&chunkPacked == 0 {
			out = append(out, b[:n]...)
		} else if out, err = unpackChunk(out, b[:n]); err != nil {
			return nil, err
		}
		b = b[n:]
		if len(out)-start > chunk {
			return nil, disk.Damaged("a compressed chunk is larger than %d bytes", chunk)
		}
		if len(out) < want { // a short chunk has zeros behind it
			out = append(out, make([]byte, chunk-(len(out)-start))...)
		}
	}
	return out, nil
}

func unpackChunk(out, b []byte) ([]byte, error) {
	start := len(out)
	for len(b) > 0 {
		flags := b[0]
		b = b[1:]
		for bit := 0; bit < 8 && len(b) > 0; bit++ {
			if flags&(1<<bit) == 0 {
				out, b = append(out, b[0]), b[1:]
				continue
			}
			done := len(out) - start
			if len(b) < 2 || done == 0 {
				return nil, disk.Damaged("a compressed chunk ends in a reference")
			}
			shift := 12 // bits of the length: the more there is, the more are of the distance
			for n := done - 1; n >= 16; n >>= 1 {
				shift--
			}
			pair := int(le.Uint16(b))
			distance, length := pair>>shift+1, pair&(1<<shift-1)+3
			if b = b[2:]; distance > done || done+length > chunk {
				return nil, disk.Damaged("a compressed chunk refers to what is not there")
			}
			for range length {
				out = append(out, out[len(out)-distance])
			}
		}
	}
	return out, nil
}
