// Package vmdk reads and writes virtual machine disk images: sparse, flat, in pieces, as a stream, and on a parent.
// Sections refer to the "Virtual Disk Format" technical note, versions 1.1 and 5.0.
package vmdk

import (
	"bytes"
	"encoding/binary"
	"math"

	"bagaglio/core/disk"
)

// The format's facts. All numbers in the file are little-endian; offsets and lengths in headers and tables count sectors.
const (
	sector = 512

	sparseMark   = "KDMV" // Hosted Sparse Extents
	sparseHeader = 512
	cowMark      = "COWD" // the older kind of sparse extent
	textMark     = "# Disk DescriptorFile"

	newlineFlag   = 1 << 0  // the bytes that tell a broken transfer are there
	redundantFlag = 1 << 1  // there is a second directory
	zeroFlag      = 1 << 2  // an entry of 1 means zeros
	compressFlag  = 1 << 16 // grains are compressed
	markerFlag    = 1 << 17 // and have markers
	deflate       = 1       // the one algorithm

	directoryAtEnd = math.MaxUint64 // in a stream: the footer tells where
	markerSize     = 12             // in front of a compressed grain: its place on the disk and its length
	tableEntries   = 512            // of a grain table
	cowEntries     = 4096           // of one in an older extent
	entryZero      = 1              // of a grain table

	maxDescriptor = 1 << 20  // bytes
	maxExtents    = 4096     //
	maxGrain      = 16 << 20 // bytes
	largestFile   = 2 << 40  // what 32 bits of sectors reach

	noParent = 0xffffffff // CID

	grain        = 64 << 10 // of images that we write
	coversTable  = tableEntries * grain
	descriptorAt = 1 * sector // of images that we write
	descriptorLn = 20 * sector
	directoryAt  = 21 * sector
	alignment    = 1 << 20
	largest      = largestFile - 4<<30 // leaves room for tables
	// A stream of grains that do not shrink takes a sector more for each, and its tables reach as far as those of others.
	largestStream = largestFile - 20<<30

	defaultPiece = 4192256 * sector // of a split disk: the files stay below 2 GiB
	leastPiece   = 1 << 20
	mostPiece    = 4194304 * sector
)

// adapters are what a disk may hang on, the default first, and adapterTypes what the format calls them (ddb.adapterType, "The Disk
// Database").
var (
	adapters     = []string{"ide", "scsi-old", "scsi", "legacy"}
	adapterTypes = map[string]string{"ide": "ide", "scsi-old": "buslogic", "scsi": "lsilogic", "legacy": "legacyESX"}
)

const (
	sparse      = "sparse"
	flat        = "flat"
	splitSparse = "split-sparse"
	splitFlat   = "split-flat"
	stream      = "stream"
	delta       = "delta"
)

// kinds are the values of createType for what we write.
var kinds = map[string]string{
	sparse: "monolithicSparse", flat: "monolithicFlat", splitSparse: "twoGbMaxExtentSparse", splitFlat: "twoGbMaxExtentFlat",
	stream: "streamOptimized", delta: "monolithicSparse",
}

func init() {
	adapter := disk.Option{Name: "adapter", Values: adapters}
	piece := disk.Option{Name: "piece_size", Default: defaultPiece, Least: leastPiece, Most: mostPiece, Multiple: grain}
	row := func(name string, thick bool, size func(virtual int64, o disk.Options, stored int64) int64, options ...disk.Option) disk.Layout {
		return disk.Layout{
			Name: name, Thick: thick, Largest: largest, Granularity: sector, Units: disk.AnyUnits(grain), Options: append(options, adapter),
			FileSize: func(virtual int64, o disk.Options, stored disk.Stored) int64 { return size(virtual, o, stored[grain]) },
		}
	}
	sparseSize := func(virtual int64, _ disk.Options, stored int64) int64 { return planFile(virtual).first + stored }
	flatSize := func(virtual int64, _ disk.Options, _ int64) int64 { return virtual + maxOwnDescriptor }
	layouts := []disk.Layout{
		row(
			sparse,
			false,
			sparseSize,
		),
		row(flat, true, flatSize),
		row(splitSparse, false, splitSize, piece),
		row(splitFlat, true, flatSize, piece),
		row(stream, false, func(virtual int64, _ disk.Options, stored int64) int64 { return streamSize(virtual, stored) }),
		row(delta, false, sparseSize),
	}
	for i := range layouts {
		l := &layouts[i]
		switch l.Name {
		case stream:
			l.Largest, l.Compresses = largestStream, true
		case delta:
			l.Stands, l.OwnBase = true, true
		case flat, splitFlat, splitSparse:
			l.Names = func(name string, virtual int64, o disk.Options) []string {
				return extentNames(l.Name, name, virtual, o)
			}
			l.Limit = func(o disk.Options) int64 {
				if length := extentLength(l.Name, largest, o); length < largest/maxExtents {
					return maxExtents * length
				}
				return largest
			}
		}
	}
	disk.Register(disk.Format{
		Name:       "vmdk",
		Rank:       3,
		Extensions: []string{".vmdk"},
		Layouts:    layouts,
		Sniff: func(p *disk.Probe) bool {
			return bytes.HasPrefix(p.Head, []byte(sparseMark)) || bytes.HasPrefix(p.Head, []byte(cowMark)) ||
				bytes.Contains(p.Head, []byte(textMark))
		},
		Open:   open,
		Create: create,
		Rename: rename,
	})
}

func up(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// header is that of a hosted sparse extent ("Sparse Extent Header").
type header struct {
	version        uint32
	flags          uint32
	capacity       uint64
	grain          uint64
	descriptor     uint64
	descriptorSize uint64
	entries        uint32 // of a grain table
	redundant      uint64 // second directory
	directory      uint64
	overhead       uint64
	unclean        bool
	compression    uint16
}

// newlines are damaged by a transfer that takes the file for text.
var newlines = []byte("\n \r\n")

func (h header) encode() []byte {
	b := make([]byte, sparseHeader)
	le := binary.LittleEndian
	copy(b, sparseMark)
	le.PutUint32(b[4:], h.version)
	le.PutUint32(b[8:], h.flags)
	le.PutUint64(b[12:], h.capacity)
	le.PutUint64(b[20:], h.grain)
	le.PutUint64(b[28:], h.descriptor)
	le.PutUint64(b[36:], h.descriptorSize)
	le.PutUint32(b[44:], h.entries)
	le.PutUint64(b[48:], h.redundant)
	le.PutUint64(b[56:], h.directory)
	le.PutUint64(b[64:], h.overhead)
	copy(b[73:], newlines)
	le.PutUint16(b[77:], h.compression)
	return b
}

func decodeHeader(b []byte) (header, error) {
	if string(b[:4]) != sparseMark {
		return header{}, disk.Damaged("the mark %q is missing", sparseMark)
	}
	le := binary.LittleEndian
	h := header{
		version: le.Uint32(b[4:]), flags: le.Uint32(b[8:]), capacity: le.Uint64(b[12:]), grain: le.Uint64(b[20:]), descriptor: le.Uint64(b[28:]),
		descriptorSize: le.Uint64(b[36:]), entries: le.Uint32(b[44:]), redundant: le.Uint64(b[48:]), directory: le.Uint64(b[56:]),
		overhead: le.Uint64(b[64:]), unclean: b[72] != 0, compression: le.Uint16(b[77:]),
	}
	switch {
	case h.version < 1 || h.version > 3:
		return h, disk.Unsupported("version %d of a sparse extent", h.version)
	case h.flags&newlineFlag != 0 && !bytes.Equal(b[73:77], newlines):
		return h, disk.Damaged("line ends were changed on the way here: transfer the file again, as binary")
	case h.grain == 0 || h.grain > maxGrain/sector || h.grain&(h.grain-1) != 0:
		return h, disk.Damaged("a grain of %d sectors is not a power of two up to %d", h.grain, maxGrain/sector)
	case h.entries == 0 || h.entries > 1<<16:
		return h, disk.Damaged("a grain table of %d entries makes no sense", h.entries)
	case h.capacity == 0 || h.capacity > math.MaxInt64/sector/2:
		return h, disk.Damaged("a capacity of %d sectors makes no sense", h.capacity)
	case h.flags&compressFlag != 0 && h.compression != deflate:
		return h, disk.Unsupported("compression algorithm %d", h.compression)
	}
	return h, nil
}

// decodeCow reads the header of an older extent as that of a hosted one.
func decodeCow(b []byte) (header, error) {
	le := binary.LittleEndian
	h := header{
		version: le.Uint32(
			b[4:],
		),
		capacity:  uint64(le.Uint32(b[12:])),
		grain:     uint64(le.Uint32(b[16:])),
		directory: uint64(le.Uint32(b[20:])),
		entries:   cowEntries,
	}
	switch {
	case h.version != 1:
		return h, disk.Unsupported("version %d of an older sparse extent", h.version)
	case h.grain == 0 || h.grain > maxGrain/sector:
		return h, disk.Damaged("a grain of %d sectors makes no sense", h.grain)
	case h.capacity == 0:
		return h, disk.Damaged("a capacity of 0 sectors makes no sense")
	}
	return h, nil
}
