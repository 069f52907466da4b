// Package vhdx reads and writes virtual hard disk images, version 2: dynamic, fixed and differencing.
// Sections refer to "[MS-VHDX]: Virtual Hard Disk v2 (VHDX) File Format".
package vhdx

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"unicode/utf16"

	"bagaglio/core/disk"

	"github.com/google/uuid"
)

// The format's facts. All numbers in the file are little-endian.
const (
	mib = 1 << 20

	fileSignature = "vhdxfile" // 2.2.1
	headerAt1     = 64 << 10   // 2.2
	headerAt2     = 128 << 10  //
	headerSize    = 4 << 10    // 2.2.2
	headerMark    = "head"     //
	version       = 1          //
	regionAt1     = 192 << 10  // 2.2.3
	regionAt2     = 256 << 10  //
	regionSize    = 64 << 10   //
	regionMark    = "regi"     //
	maxRegions    = 2047       //
	required      = 1          // flag of a region

	tableSize    = 64 << 10   // 2.6.1
	tableMark    = "metadata" //
	maxItems     = 2047       //
	itemOfDisk   = 2          // flags of an item
	itemRequired = 4          //
	leaveBlocks  = 1          // 2.6.2.1: flag of a fixed disk
	hasParent    = 2          //

	stateNotPresent = 0 // 2.5.1.1, payload blocks
	stateUndefined  = 1
	stateZero       = 2
	stateUnmapped   = 3
	statePresent    = 6
	statePartially  = 7
	stateMask       = 7
	offsetMask      = ^uint64(mib - 1)

	logAlign = 4 << 10 // 2.3

	smallestBlock = 1 * mib
	largestBlock  = 256 * mib
	largest       = 64 << 40 // 2.6.2.2
	mostBlocks    = 4 << 20  // of images that we write, which bounds the table
)

// The regions and metadata items (2.2.3.2, 2.6.2).
var (
	regionBAT      = uuid.MustParse("2dc27766-f623-4200-9d64-115e9bfd4a08")
	regionMetadata = uuid.MustParse("8b7ca206-4790-4b9a-b8fe-575f050f886e")

	itemParameters = uuid.MustParse("caa16737-fa36-4d43-b3b6-33f0aa44e76b")
	itemSize       = uuid.MustParse("2fa54224-cd1b-4876-b211-5dbed83bf4b8")
	itemID         = uuid.MustParse("beca12ab-b2e6-4523-93ef-c309e000c746")
	itemLogical    = uuid.MustParse("8141bf1d-a96f-4709-ba47-f233a8faab5f")
	itemLocator    = uuid.MustParse("a8d35f2d-b30b-454d-abf7-d3d84834ab0c") // of a parent
	itemPhysical   = uuid.MustParse("cda348c7-445d-4471-9cc9-e9885251c556")
)

const (
	dynamic      = "dynamic"
	fixed        = "fixed"
	differencing = "differencing"
)

func init() {
	block := disk.Option{Name: "block_size", Values: []string{fmt.Sprint(smallestBlock)}}
	for b := int64(2 * smallestBlock); b <= largestBlock; b *= 2 {
		block.Values = append(block.Values, fmt.Sprint(b))
	}
	sector := disk.Option{Name: "sector_size", Values: []string{"512", "4096"}}
	row := disk.Layout{
		Name: dynamic, Largest: largest, Granularity: 512, Options: []disk.Option{block, sector},
		Limit: func(o disk.Options) int64 {
			if o.BlockSize > 0 {
				return min(mostBlocks*o.BlockSize, largest)
			}
			return largest
		},
		Units: func(virtual int64, o disk.Options) []int64 { return []int64{shapeOf(virtual, o).block} },
		FileSize: func(virtual int64, o disk.Options, stored disk.Stored) int64 {
			s := shapeOf(virtual, o)
			return s.firstBlock() + stored[s.block]
		},
	}
	whole, standing := row, row
	whole.Name, whole.Thick = fixed, true
	whole.FileSize = func(virtual int64, o disk.Options, _ disk.Stored) int64 {
		s := shapeOf(virtual, o)
		return s.firstBlock() + up(virtual, s.block)
	}
	standing.Name, standing.Stands, standing.OwnBase = differencing, true, true
	disk.Register(disk.Format{
		Name:       "vhdx",
		Rank:       5,
		Extensions: []string{".vhdx"},
		Layouts:    []disk.Layout{row, whole, standing},
		Sniff:      func(p *disk.Probe) bool { return len(p.Head) >= 8 && string(p.Head[:8]) == fileSignature },
		Open:       open,
		Create:     create,
		Rename:     rename,
	})
}

func up(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// chunkRatio is how many payload entries the table has before each entry of a sector bitmap (2.5).
func chunkRatio(sector, block int64) int64 { return (1 << 23) * sector / block }

// entryOf is the place in the table of a payload block's entry.
func entryOf(number, ratio int64) int64 { return number + number/ratio }

// bitmapEntryOf is the place in the table of the entry of the sector bitmap that covers a payload block.
func bitmapEntryOf(number, ratio int64) int64 { return (number/ratio)*(ratio+1) + ratio }

// entries is the length of the table in entries (2.5): of a disk with a parent, the last bitmap's counts too.
func entries(blocks, ratio int64, parent bool) int64 {
	if parent {
		return bitmapEntryOf(blocks-1, ratio) + 1
	}
	return entryOf(blocks-1, ratio) + 1
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// checksum is CRC-32C of b, in which the four bytes at offset 4 count as zeros.
func checksum(b []byte) uint32 {
	sum := crc32.Update(0, castagnoli, b[:4])
	sum = crc32.Update(sum, castagnoli, []byte{0, 0, 0, 0})
	return crc32.Update(sum, castagnoli, b[8:])
}

// sealed tells whether b begins with the mark and has the right checksum.
func sealed(b []byte, mark string) bool {
	return string(b[:4]) == mark && binary.LittleEndian.Uint32(b[4:]) == checksum(b)
}

func seal(b []byte, mark string) []byte {
	copy(b, mark)
	binary.LittleEndian.PutUint32(b[4:], checksum(b))
	return b
}

// guid swaps a GUID between its usual order and that of the file, in which the first three fields are little-endian.
func guid(b []byte) uuid.UUID {
	return uuid.UUID{b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]}
}

func putGUID(b []byte, id uuid.UUID) {
	swapped := guid(id[:])
	copy(b, swapped[:])
}

// header is 2.2.2.
type header struct {
	sequence   uint64
	fileWrite  uuid.UUID
	dataWrite  uuid.UUID
	log        uuid.UUID
	logVersion uint16
	version    uint16
	logLength  uint32
	logOffset  uint64
}

func (h header) encode() []byte {
	b := make([]byte, headerSize)
	le := binary.LittleEndian
	le.PutUint64(b[8:], h.sequence)
	putGUID(b[16:], h.fileWrite)
	putGUID(b[32:], h.dataWrite)
	putGUID(b[48:], h.log)
	le.PutUint16(b[64:], h.logVersion)
	le.PutUint16(b[66:], h.version)
	le.PutUint32(b[68:], h.logLength)
	le.PutUint64(b[72:], h.logOffset)
	return seal(b, headerMark)
}

func decodeHeader(b []byte) (h header, ok bool) {
	le := binary.LittleEndian
	return header{
		sequence: le.Uint64(b[8:]), fileWrite: guid(b[16:32]), dataWrite: guid(b[32:48]), log: guid(b[48:64]),
		logVersion: le.Uint16(b[64:]), version: le.Uint16(b[66:]), logLength: le.Uint32(b[68:]), logOffset: le.Uint64(b[72:]),
	}, sealed(b, headerMark)
}

// region is an entry of 2.2.3.
type region struct {
	id       uuid.UUID
	offset   uint64
	length   uint32
	required bool
}

func encodeRegions(regions []region) []byte {
	b := make([]byte, regionSize)
	le := binary.LittleEndian
	le.PutUint32(b[8:], uint32(len(regions)))
	for i, r := range regions {
		e := b[16+32*i:]
		putGUID(e, r.id)
		le.PutUint64(e[16:], r.offset)
		le.PutUint32(e[24:], r.length)
		if r.required {
			le.PutUint32(e[28:], required)
		}
	}
	return seal(b, regionMark)
}

func decodeRegions(b []byte) (regions []region, ok bool) {
	le := binary.LittleEndian
	count := le.Uint32(b[8:])
	if !sealed(b, regionMark) || count > maxRegions {
		return nil, false
	}
	for i := range count {
		e := b[16+32*i:][:32]
		regions = append(regions, region{guid(e), le.Uint64(e[16:]), le.Uint32(e[24:]), le.Uint32(e[28:])&required != 0})
	}
	return regions, true
}

// metadata are the items of 2.6.2.
type metadata struct {
	block    uint32
	flags    uint32
	size     uint64
	id       uuid.UUID
	logical  uint32
	physical uint32
	parent   map[string]string // the locator; nil without a parent
}

// encode returns the table followed by the values.
func (m metadata) encode() []byte {
	le := binary.LittleEndian
	parameters := le.AppendUint32(le.AppendUint32(nil, m.block), m.flags)
	id := make([]byte, 16)
	putGUID(id, m.id)
	b := make([]byte, tableSize)
	copy(b, tableMark)
	items := []struct {
		id    uuid.UUID
		value []byte
		flags uint32
	}{
		{itemParameters, parameters, itemRequired},
		{itemSize, le.AppendUint64(nil, m.size), itemOfDisk | itemRequired},
		{itemID, id, itemOfDisk | itemRequired},
		{itemLogical, le.AppendUint32(nil, m.logical), itemOfDisk | itemRequired},
		{itemPhysical, le.AppendUint32(nil, m.physical), itemOfDisk | itemRequired},
		{itemLocator, encodeLocator(m.parent), itemRequired},
	}
	if m.parent == nil {
		items = items[:len(items)-1]
	}
	for i, item := range items {
		le.PutUint16(b[10:], uint16(i+1))
		e := b[32+32*i:]
		putGUID(e, item.id)
		le.PutUint32(e[16:], uint32(len(b)))
		le.PutUint32(e[20:], uint32(len(item.value)))
		le.PutUint32(e[24:], item.flags)
		b = append(b, item.value...)
	}
	return b
}

// text16 reads UTF-16 up to its end or the first zero.
func text16(b []byte) string {
	var units []uint16
	for ; len(b) >= 2 && (b[0] != 0 || b[1] != 0); b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}

func encode16(s string) (b []byte) {
	for _, unit := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, unit)
	}
	return b
}
