package fit

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"bagaglio/core/disk"
)

// The tables (UEFI 5.2.1 and 5.3; offsets from the start of a sector or entry, in bytes).
const (
	sector = 512

	mbrTable    = 446
	mbrEntry    = 16
	mbrType     = 4
	mbrFirst    = 8
	mbrCount    = 12
	mbrProtects = 0xee
	maxMBR      = (1<<32 - 1) * sector

	gptHeader    = 92
	gptSum       = 16
	gptHere      = 24
	gptOther     = 32
	gptLast      = 48 // the last sector that partitions may use
	gptTable     = 72
	gptCount     = 80
	gptEntrySize = 84
	gptTableSum  = 88
	gptFirst     = 32 // of an entry
	gptEnd       = 40
	gptUsual     = 16 << 10 // bytes that the entries take
)

// gptTail is what a GPT takes at the end of a disk.
func gptTail(sector int64) int64 { return gptUsual + sector }

// patch is what is written over a part of the new disk.
type patch struct {
	off  int64
	data []byte
}

// tables are those of the new disk: what the old one has, with the partitions in their new places.
func (l Layout) tables(src disk.Reader) ([]patch, error) {
	switch l.Table {
	case "gpt":
		return l.gpt(src)
	case "mbr":
		return l.mbr(src)
	}
	return nil, nil
}

func (l Layout) gpt(src disk.Reader) ([]patch, error) {
	le := binary.LittleEndian
	header, err := read(src, l.Sector, l.Sector)
	if err != nil {
		return nil, err
	}
	table := int64(le.Uint64(header[gptTable:])) * l.Sector
	if !isGPT(header) { // Compute went by the second copy
		if header, err = read(src, l.Before/l.Sector*l.Sector-l.Sector, l.Sector); err != nil {
			return nil, err
		}
		table = int64(le.Uint64(header[gptTable:])) * l.Sector
	}
	count, size := int64(le.Uint32(header[gptCount:])), int64(le.Uint32(header[gptEntrySize:]))
	if !isGPT(header) || count*size > gptUsual || size < 128 {
		return nil, fmt.Errorf("%w: its partition table is none that is rewritten: more than 128 entries, or its header is wrong", ErrSize)
	}
	entries, err := read(src, table, count*size)
	if err != nil {
		return nil, err
	}
	for _, p := range l.Parts {
		at := int64(p.Number-1) * size
		if at+size > int64(len(entries)) || int64(le.Uint64(entries[at+gptFirst:])) != p.From/l.Sector {
			return nil, fmt.Errorf("%w: its partition table is another one than when this was planned", ErrSize)
		}
		le.PutUint64(entries[at+gptFirst:], uint64(p.Offset/l.Sector))
		le.PutUint64(entries[at+gptEnd:], uint64((p.Offset+p.Length)/l.Sector-1))
	}
	last := l.Size/l.Sector - 1
	sectors := (count*size + l.Sector - 1) / l.Sector
	le.PutUint64(header[gptLast:], uint64(last-sectors-1))
	le.PutUint32(header[gptTableSum:], crc32.ChecksumIEEE(entries))
	copyAt := func(here, other, table int64) patch {
		h := append([]byte{}, header...)
		le.PutUint64(h[gptHere:], uint64(here))
		le.PutUint64(h[gptOther:], uint64(other))
		le.PutUint64(h[gptTable:], uint64(table))
		clear(h[gptSum : gptSum+4])
		le.PutUint32(h[gptSum:], crc32.ChecksumIEEE(h[:gptHeader]))
		return patch{here * l.Sector, h}
	}
	first, err := read(src, 0, sector)
	if err != nil {
		return nil, err
	}
	for i := range 4 {
		e := first[mbrTable+i*mbrEntry:][:mbrEntry]
		if e[mbrType] == mbrProtects {
			le.PutUint32(e[mbrCount:], uint32(min(last, 1<<32-1)))
		} else if e[mbrType] != 0 {
			return nil, fmt.Errorf("%w: it has an MBR besides its GPT (a hybrid table), which would not fit any more", ErrSize)
		}
	}
	return []patch{
		{0, first}, copyAt(1, last, 2), {2 * l.Sector, entries},
		{(last - sectors) * l.Sector, entries}, copyAt(last, 1, last-sectors),
	}, nil
}

func isGPT(header []byte) bool {
	h := append([]byte{}, header[:gptHeader]...)
	sum := binary.LittleEndian.Uint32(h[gptSum:])
	clear(h[gptSum : gptSum+4])
	return string(h[:8]) == "EFI PART" && crc32.ChecksumIEEE(h) == sum
}

func (l Layout) mbr(src disk.Reader) ([]patch, error) {
	le := binary.LittleEndian
	first, err := read(src, 0, sector)
	if err != nil {
		return nil, err
	}
	for _, p := range l.Parts {
		e := first[mbrTable+(p.Number-1)%4*mbrEntry:][:mbrEntry]
		if int64(le.Uint32(e[mbrFirst:])) != p.From/sector {
			return nil, fmt.Errorf("%w: its partition table is another one than when this was planned", ErrSize)
		}
		le.PutUint32(e[mbrFirst:], uint32(p.Offset/sector))
		le.PutUint32(e[mbrCount:], uint32(p.Length/sector))
		copy(e[1:4], chs(p.Offset/sector))
		copy(e[5:8], chs((p.Offset+p.Length)/sector-1))
	}
	return []patch{{0, first}}, nil
}

// chs is a sector in the geometry of 255 heads and 63 sectors that everybody assumes, the last one there is where it reaches no further.
func chs(n int64) []byte {
	const heads, sectors, cylinders = 255, 63, 1024
	c, h, s := n/(heads*sectors), n/sectors%heads, n%sectors+1
	if c >= cylinders {
		return []byte{0xfe, 0xff, 0xff}
	}
	return []byte{byte(h), byte(s | c>>8<<6), byte(c)}
}

// Boot sectors of FAT and NTFS say how many sectors lie before them, which loaders go by (FAT specification, section 3), and have a copy: of FAT32 in
// its sector 6, of NTFS in the last sector of the partition.
const (
	hidden    = 28
	fat32Copy = 6
)

// moved are the patches of filesystems that say themselves where they begin, on a disk that is laid out otherwise.
func (l Layout) moved(d *fitted) (all []patch, err error) {
	le := binary.LittleEndian
	for _, p := range l.Parts {
		if p.Offset == p.From || p.Left {
			continue
		}
		var copies []int64
		switch p.Filesystem {
		case "fat12", "fat16":
			copies = []int64{0}
		case "fat32":
			copies = []int64{0, fat32Copy * l.Sector}
		case "ntfs":
			copies = []int64{0, p.Length - l.Sector}
		}
		for _, at := range copies {
			b, err := read(d, p.Offset+at, sector)
			if err != nil {
				return nil, err
			}
			if int64(le.Uint32(b[hidden:]))*l.Sector != p.From || le.Uint16(b[510:]) != 0xaa55 {
				continue
			}
			field := make([]byte, 4)
			le.PutUint32(field, uint32(p.Offset/l.Sector))
			all = append(all, patch{p.Offset + at + hidden, field})
		}
	}
	return all, nil
}

func read(src disk.Reader, off, n int64) ([]byte, error) {
	b := make([]byte, n)
	if off < 0 || off+n > src.Size() {
		return nil, disk.Damaged("a partition table at offset %d, behind the end of the disk", off)
	}
	if _, err := src.ReadAt(b, off); err != nil {
		return nil, fmt.Errorf("reading the partition table at offset %d: %w", off, err)
	}
	return b, nil
}
