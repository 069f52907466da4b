package inspect

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// Facts of a disk or partition that LVM has (the on-disk format of LVM2): a label in one of the first sectors, behind it the header with areas of
// data and of text, and the header of such an area.
const (
	labelMark, labelType     = "LABELONE", "LVM2 001"
	labelOffset, labelKind   = 20, 24
	lvmUUID                  = 32 // bytes of an identifier
	areaMagic                = " LVM2 x[5A%r0N*>"
	areaHeader               = 512
	atAreaMagic, atAreaStart = 4, 24
	atAreaSize, atText       = 32, 40
	// lvmVisible is the state of a volume that is one for people. Others are parts of some that are more than their pieces: pools, mirrors, caches.
	lvmVisible        = "VISIBLE"
	maxAreas          = 16
	maxSegments       = 1 << 16
	lvmSector   int64 = 512
)

// Logical is a volume of LVM that lies on one disk alone.
type Logical struct {
	Name       string      `json:"name"` // GROUP/VOLUME
	Size       int64       `json:"size"` // bytes
	Filesystem *Filesystem `json:"filesystem,omitempty"`

	pieces []Piece // where it lies, from the beginning of the partition
}

// lvm is what LVM has on a partition.
type lvm struct {
	volumes []Logical
	// taken is what is not free, ascending, from the beginning of the partition: its own, and what volumes have, also those that lie on others too.
	taken []fingerprint.Range
}

// logical reads what LVM has in a range of a disk.
func logical(d Disk, off, length int64) (*lvm, error) {
	le := binary.LittleEndian
	r := io.NewSectionReader(d, off, length)
	head := make([]byte, 4*lvmSector)
	if _, err := r.ReadAt(head, 0); err != nil {
		return nil, err
	}
	at := int64(-1)
	for i := int64(0); i < 4; i++ {
		if s := head[i*lvmSector:]; string(s[:8]) == labelMark && string(s[labelKind:labelKind+8]) == labelType {
			at = i*lvmSector + int64(le.Uint32(s[labelOffset:]))
			break
		}
	}
	if at < 0 || at+lvmUUID+8 > int64(len(head)) {
		return nil, disk.Damaged("no label of LVM")
	}
	own := string(head[at : at+lvmUUID])
	lists := head[at+lvmUUID+8:]
	_, lists = locations(lists) // of data
	texts, _ := locations(lists)
	for _, a := range texts {
		text, err := lvmTextIn(r, a)
		if err != nil {
			return nil, err
		}
		if text == "" {
			continue
		}
		whole, err := (&lvmText{text}).readSection(0)
		if err != nil {
			return nil, err
		}
		for _, name := range slices.Sorted(maps.Keys(whole)) {
			if group := whole.of(name); group.of("physical_volumes") != nil {
				return group.group(name, own, length)
			}
		}
	}
	return nil, disk.Damaged("LVM says nothing of what it has")
}

// locations reads a list of offsets and lengths up to its end, and returns what is behind.
func locations(b []byte) (all []fingerprint.Range, rest []byte) {
	le := binary.LittleEndian
	for len(b) >= 16 && len(all) < maxAreas {
		r := fingerprint.Range{Offset: int64(le.Uint64(b)), Length: int64(le.Uint64(b[8:]))}
		if b = b[16:]; r.Offset == 0 {
			return all, b
		}
		all = append(all, r)
	}
	return all, nil
}

// lvmTextIn is the text that is in force in an area, which begins anew at its end.
func lvmTextIn(r io.ReaderAt, area fingerprint.Range) (string, error) {
	le := binary.LittleEndian
	h := make([]byte, areaHeader)
	if _, err := r.ReadAt(h, area.Offset); err != nil {
		return "", err
	}
	start, size := int64(le.Uint64(h[atAreaStart:])), int64(le.Uint64(h[atAreaSize:]))
	off, length := int64(le.Uint64(h[atText:])), int64(le.Uint64(h[atText+8:]))
	switch {
	case string(h[atAreaMagic:atAreaMagic+len(areaMagic)]) != areaMagic:
		return "", disk.Damaged("an area of LVM without its mark")
	case length == 0:
		return "", nil
	case off < areaHeader || length < 0 || length > maxLVMText || size < areaHeader || off >= size || length > size-areaHeader || start < 0:
		return "", disk.Damaged("a text of LVM of %d bytes at %d of %d", length, off, size)
	}
	b := make([]byte, length)
	first := min(length, size-off)
	_, err := r.ReadAt(b[:first], start+off)
	if err == nil && first < length {
		_, err = r.ReadAt(b[first:], start+areaHeader)
	}
	return string(b), err
}

// group reads a group of volumes, of which the disk with an identifier is one.
func (s section) group(name, own string, length int64) (*lvm, error) {
	extent := s.number("extent_size") * lvmSector
	if extent <= 0 || extent > length {
		return nil, disk.Damaged("extents of LVM of %d bytes", extent)
	}
	here, start, count := "", int64(0), int64(0)
	for pv, v := range s.of("physical_volumes") {
		if p, ok := v.(section); ok && plainID(p.text("id")) == own {
			here, start, count = pv, p.number("pe_start")*lvmSector, p.number("pe_count")
		}
	}
	if here == "" || start < 0 || count < 0 || count > (length-start)/extent {
		return nil, disk.Damaged("%d extents of LVM from %d on", count, start)
	}
	l := &lvm{taken: []fingerprint.Range{{Length: start}}}
	if end := start + count*extent; end < length {
		l.taken = append(l.taken, fingerprint.Range{Offset: end, Length: length - end})
	}
	for _, lv := range slices.Sorted(maps.Keys(s.of("logical_volumes"))) {
		v := s.of("logical_volumes").of(lv)
		volume, alone := Logical{Name: storage.Printable(name + "/" + lv)}, slices.Contains(v.list("status"), any(lvmVisible))
		segments := v.number("segment_count")
		if segments > maxSegments {
			return nil, disk.Damaged("a volume of LVM with %d segments", segments)
		}
		for i := range segments {
			g := v.of(fmt.Sprintf("segment%d", i+1))
			if g == nil {
				return nil, disk.Damaged("a volume of LVM without its segment %d", i+1)
			}
			n := g.number("extent_count")
			stripes := g.list("stripes")
			width := int64(len(stripes) / 2)
			alone = alone && g.text("type") == "striped" && width > 0 && g.number("start_extent")*extent == volume.Size
			for j := int64(0); j < width; j++ {
				pv, _ := stripes[2*j].(string)
				first, _ := stripes[2*j+1].(int64)
				if pv != here {
					alone = false
					continue
				}
				run := n / max(1, width)
				if n < 0 || first < 0 || run > count || first > count-run {
					return nil, disk.Damaged("a segment of LVM of %d extents from %d on", n, first)
				}
				l.taken = append(l.taken, fingerprint.Range{Offset: start + first*extent, Length: run * extent})
			}
			if alone {
				alone = volume.add(g, stripes, n, extent, start)
			}
		}
		if alone && volume.Size > 0 {
			l.volumes = append(l.volumes, volume)
		}
	}
	slices.SortFunc(l.taken, func(a, b fingerprint.Range) int { return cmp.Compare(a.Offset, b.Offset) })
	return l, nil
}

// add adds a segment, and tells whether it could: one after the other, or in stripes.
func (v *Logical) add(g section, stripes []any, extents, extent, start int64) bool {
	width := int64(len(stripes) / 2)
	first := func(j int64) int64 { n, _ := stripes[2*j+1].(int64); return start + n*extent }
	length := extents * extent
	if len(v.pieces) > maxSegments {
		return false
	}
	if width == 1 {
		v.pieces = append(v.pieces, Piece{Off: v.Size, Len: length, At: first(0)})
		v.Size += length
		return true
	}
	stripe := g.number("stripe_size") * lvmSector
	if stripe <= 0 || length%(stripe*width) != 0 || length/stripe > maxSegments {
		return false
	}
	for n := int64(0); n < length/stripe; n++ {
		v.pieces = append(v.pieces, Piece{Off: v.Size, Len: stripe, At: first(n%width) + n/width*stripe})
		v.Size += stripe
	}
	return true
}

// plainID is an identifier as the header has it, without its dashes.
func plainID(id string) string {
	var b []byte
	for _, c := range []byte(id) {
		if c != '-' {
			b = append(b, c)
		}
	}
	return string(b)
}

// logicalDisk reads a volume as a disk.
type logicalDisk struct {
	*content
	size int64
}

func (l logicalDisk) Size() int64 { return l.size }

// disk is the volume, on a disk where its partition begins.
func (v Logical) disk(d Disk, start int64) Disk {
	return logicalDisk{&content{&Volume{disk: d, start: start}, v.pieces}, v.Size}
}

// onDisk are ranges of the volume where they lie on the disk, of which its partition begins at start.
func (v Logical) onDisk(ranges []fingerprint.Range, start int64) (out []fingerprint.Range) {
	for _, r := range ranges {
		for _, p := range v.pieces {
			from, to := max(r.Offset, p.Off), min(r.Offset+r.Length, p.Off+p.Len)
			if from < to {
				out = append(out, fingerprint.Range{Offset: start + p.At + from - p.Off, Length: to - from})
			}
		}
	}
	return out
}

// free is what nothing has of a partition of a length, ascending.
func (l *lvm) free(length int64) (out []fingerprint.Range) {
	var at int64
	for _, r := range l.taken {
		if r.Offset > at {
			out = append(out, fingerprint.Range{Offset: at, Length: r.Offset - at})
		}
		at = max(at, r.Offset+r.Length)
	}
	if at < length {
		out = append(out, fingerprint.Range{Offset: at, Length: length - at})
	}
	return out
}
