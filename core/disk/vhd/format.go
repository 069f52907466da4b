// Package vhd reads and writes virtual hard disk images, version 1.0: fixed, dynamic and differencing.
// Sections refer to the "Virtual Hard Disk Image Format Specification", October 11, 2006.
package vhd

import (
	"encoding/binary"
	"math"
	"time"
	"unicode/utf16"

	"bagaglio/core/disk"
)

// The format's facts. All numbers in the file are big-endian.
const (
	sectorSize = 512

	footerSize    = 512            // "Hard Disk Footer Format"
	footerCookie  = "conectix"     //
	features      = 0x00000002     // reserved bit, always set
	version10     = 0x00010000     // of the footer and of the dynamic header
	noOffset      = math.MaxUint64 // data offset of a fixed disk
	typeFixed     = 2              // disk type
	typeDynamic   = 3              //
	typeDiffering = 4              //
	creatorHost   = 0x5769326b     // one of the two hosts the specification knows
	creatorApp    = "bgio"         // ours
	headerSize    = 1024           // "Dynamic Disk Header Format"
	headerCookie  = "cxsparse"     //
	unused        = math.MaxUint32 // "Block Allocation Table": not allocated
	defaultBlock  = 2 << 20        // "Data Blocks"
	largest       = 2040 << 30     // what a BAT of 32-bit sectors leaves for data
	maxCylinders  = 65535          // "Appendix: CHS Calculation"
	maxHeads      = 16             //
	maxSectors    = 255            //
	largestCHS    = maxCylinders * maxHeads * maxSectors
	smallestBlock = 4 << 10   // of those that we read; the specification sets no bound
	largestBlock  = 256 << 20 //
)

// epoch is the start of time stamps: seconds since January 1, 2000 12:00:00 AM UTC.
var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

const (
	dynamic      = "dynamic"
	fixed        = "fixed"
	differencing = "differencing"
)

func init() {
	fixedSize := func(virtual int64, _ disk.Options, _ disk.Stored) int64 { return virtual + footerSize }
	disk.Register(disk.Format{
		Name:       "vhd",
		Rank:       4,
		Extensions: []string{".vhd"},
		Layouts: []disk.Layout{
			{Name: dynamic, Largest: largest, Granularity: sectorSize, Units: disk.AnyUnits(defaultBlock), FileSize: dynamicSize},
			{Name: fixed, Thick: true, Largest: largest, Granularity: sectorSize, Units: disk.AnyUnits(1), FileSize: fixedSize},
			{
				Name:        differencing,
				Stands:      true,
				OwnBase:     true,
				Largest:     largest,
				Granularity: sectorSize,
				Units:       disk.AnyUnits(defaultBlock),
				FileSize:    dynamicSize,
			},
		},
		Sniff:  sniff,
		Open:   open,
		Create: create,
		Rename: rename,
	})
}

// sniff: the footer is at the end; images of old writers have one byte less of it; a damaged dynamic one has its copy at
// the start.
func sniff(p *disk.Probe) bool {
	has := func(b []byte, at int) bool {
		return len(b) >= at+len(footerCookie) && string(b[at:at+len(footerCookie)]) == footerCookie
	}
	return has(p.Tail, 0) || has(p.Tail, 1) || has(p.Head, 0)
}

// footer is "Hard Disk Footer Format".
type footer struct {
	DataOffset   uint64
	Timestamp    uint32
	CreatorApp   [4]byte
	CreatorVer   uint32
	CreatorHost  uint32
	OriginalSize uint64
	CurrentSize  uint64
	Geometry     geometry
	DiskType     uint32
	ID           [16]byte
}

func (f footer) encode() []byte {
	b := make([]byte, footerSize)
	copy(b, footerCookie)
	be := binary.BigEndian
	be.PutUint32(b[8:], features)
	be.PutUint32(b[12:], version10)
	be.PutUint64(b[16:], f.DataOffset)
	be.PutUint32(b[24:], f.Timestamp)
	copy(b[28:], f.CreatorApp[:])
	be.PutUint32(b[32:], f.CreatorVer)
	be.PutUint32(b[36:], f.CreatorHost)
	be.PutUint64(b[40:], f.OriginalSize)
	be.PutUint64(b[48:], f.CurrentSize)
	be.PutUint16(b[56:], f.Geometry.cylinders)
	b[58], b[59] = f.Geometry.heads, f.Geometry.sectors
	be.PutUint32(b[60:], f.DiskType)
	copy(b[68:], f.ID[:])
	be.PutUint32(b[64:], checksum(b))
	return b
}

// decodeFooter fails on anything that is not a whole footer.
func decodeFooter(b []byte) (footer, error) {
	if string(b[:8]) != footerCookie {
		return footer{}, disk.Damaged("no footer with the mark %q", footerCookie)
	}
	be := binary.BigEndian
	if got, want := checksumBut(b, 64), be.Uint32(b[64:]); got != want {
		return footer{}, disk.Damaged("the footer's checksum is %#08x and should be %#08x", want, got)
	}
	f := footer{
		DataOffset:   be.Uint64(b[16:]),
		Timestamp:    be.Uint32(b[24:]),
		CreatorApp:   [4]byte(b[28:32]),
		CreatorVer:   be.Uint32(b[32:]),
		CreatorHost:  be.Uint32(b[36:]),
		OriginalSize: be.Uint64(b[40:]),
		CurrentSize:  be.Uint64(b[48:]),
		Geometry:     geometry{be.Uint16(b[56:]), b[58], b[59]},
		DiskType:     be.Uint32(b[60:]),
		ID:           [16]byte(b[68:84]),
	}
	if v := be.Uint32(b[12:]); v != version10 {
		return footer{}, disk.Unsupported("footer version %#x", v)
	}
	return f, nil
}

// header is "Dynamic Disk Header Format".
type header struct {
	TableOffset uint64
	Entries     uint32
	BlockSize   uint32
	// only in a differencing disk
	ParentID   [16]byte
	ParentTime uint32
	ParentName string
	Locators   []locator
}

func (h header) encode() []byte {
	b := make([]byte, headerSize)
	copy(b, headerCookie)
	be := binary.BigEndian
	be.PutUint64(b[8:], noOffset)
	be.PutUint64(b[16:], h.TableOffset)
	be.PutUint32(b[24:], version10)
	be.PutUint32(b[28:], h.Entries)
	be.PutUint32(b[32:], h.BlockSize)
	copy(b[40:], h.ParentID[:])
	be.PutUint32(b[56:], h.ParentTime)
	name := utf16.Encode([]rune(h.ParentName))
	for i, unit := range name[:min(len(name), maxParentName)] {
		be.PutUint16(b[parentNameAt+2*i:], unit)
	}
	for i, l := range h.Locators {
		l.encode(b[locatorsAt+locatorSize*i:])
	}
	be.PutUint32(b[36:], checksum(b))
	return b
}

func decodeHeader(b []byte) (header, error) {
	if string(b[:8]) != headerCookie {
		return header{}, disk.Damaged("no dynamic header with the mark %q", headerCookie)
	}
	be := binary.BigEndian
	if got, want := checksumBut(b, 36), be.Uint32(b[36:]); got != want {
		return header{}, disk.Damaged("the dynamic header's checksum is %#08x and should be %#08x", want, got)
	}
	if v := be.Uint32(b[24:]); v != version10 {
		return header{}, disk.Unsupported("dynamic header version %#x", v)
	}
	h := header{
		TableOffset: be.Uint64(b[16:]), Entries: be.Uint32(b[28:]), BlockSize: be.Uint32(b[32:]),
		ParentID: [16]byte(b[40:56]), ParentTime: be.Uint32(b[56:]), ParentName: text16(b[parentNameAt:parentNameAt+2*maxParentName], be),
	}
	for i := range maxLocators {
		if l := decodeLocator(b[locatorsAt+locatorSize*i:]); l.platform != 0 {
			h.Locators = append(h.Locators, l)
		}
	}
	if h.BlockSize < smallestBlock || h.BlockSize > largestBlock || h.BlockSize&(h.BlockSize-1) != 0 {
		return header{}, disk.Damaged("a block size of %d bytes is not a power of two from %d to %d", h.BlockSize, smallestBlock, largestBlock)
	}
	return h, nil
}

// bitmapSize is the length of the sector bitmap in front of each block: a bit for each sector, padded to a sector.
func (h header) bitmapSize() int64 {
	return (int64(h.BlockSize)/sectorSize/8 + sectorSize - 1) / sectorSize * sectorSize
}

// checksum is the ones' complement of the sum of all bytes, taken while the field itself is zero.
func checksum(b []byte) uint32 {
	var sum uint32
	for _, c := range b {
		sum += uint32(c)
	}
	return ^sum
}

// checksumBut is the checksum of b without the four bytes at the field's offset.
func checksumBut(b []byte, field int) uint32 {
	return checksum(b[:field]) - ^checksum(b[field+4:])
}

// geometry is the cylinders, heads and sectors of a track that old software sees.
type geometry struct {
	cylinders      uint16
	heads, sectors uint8
}

// size in bytes of a disk of this geometry. The greatest one stands for any size.
func (g geometry) size() int64 {
	return int64(g.cylinders) * int64(g.heads) * int64(g.sectors) * sectorSize
}

// geometryFor returns the geometry by which a disk has exactly this size, or the greatest one, which makes readers go by
// the current size. Some readers believe the geometry and others the size: so both see the same disk.
func geometryFor(size int64) geometry {
	if g := calculated(size / sectorSize); g.size() == size {
		return g
	}
	return geometry{maxCylinders, maxHeads, maxSectors}
}

// calculated is the algorithm of "Appendix: CHS Calculation".
func calculated(total int64) geometry {
	total = min(total, largestCHS)
	if total >= maxCylinders*maxHeads*63 {
		return geometry{uint16(total / (maxHeads * maxSectors)), maxHeads, maxSectors}
	}
	sectors := int64(17)
	cylinderTimesHeads := total / sectors
	heads := max((cylinderTimesHeads+1023)/1024, 4)
	if cylinderTimesHeads >= heads*1024 || heads > maxHeads {
		sectors, heads = 31, maxHeads
		cylinderTimesHeads = total / sectors
	}
	if cylinderTimesHeads >= heads*1024 {
		sectors, heads = 63, maxHeads
		cylinderTimesHeads = total / sectors
	}
	return geometry{uint16(cylinderTimesHeads / heads), uint8(heads), uint8(sectors)}
}
