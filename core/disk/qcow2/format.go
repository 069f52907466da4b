// Package qcow2 reads and writes images of versions 2 and 3: plain, compressed, and overlays on a base.
// Sections refer to the published format description, "QCOW2 image format" (docs/formats.md).
package qcow2

import (
	"encoding/binary"
	"fmt"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// The format's facts. All numbers in the file are big-endian.
const (
	magic      = 0x514649fb // "QFI\xfb", Header
	headerV2   = 72         // length of the version 2 header
	headerV3   = 104        // length of the version 3 header without optional fields
	headerOurs = 112        // with the compression type, padded to 8

	minClusterBits = 9  // Header, cluster_bits
	maxClusterBits = 21 // as a hypervisor reads them
	refcountOrder  = 4  // of images that we write: 16 bits
	maxRefcount    = 6  // order: 64 bits

	// Incompatible features
	dirtyBit       = 1 << 0 // refcounts may be stale
	corruptBit     = 1 << 1 // some structure is known to be wrong
	dataFileBit    = 1 << 2 // guest data lies in another file
	compressionBit = 1 << 3 // the compression type is not zlib
	extendedL2Bit  = 1 << 4 // L2 entries have subclusters
	knownFeatures  = dirtyBit | corruptBit | dataFileBit | compressionBit | extendedL2Bit

	// Header extensions
	extEnd          = 0
	extBaseFormat   = 0xe2792aca
	extFeatureNames = 0x6803f857
	extBitmaps      = 0x23852875
	extDataFile     = 0x44415441

	compressionZlib = 0
	compressionZstd = 1

	// L1, L2 table entries
	offsetMask     = 0x00fffffffffffe00
	copiedFlag     = 1 << 63 // refcount is exactly one
	compressedFlag = 1 << 62
	zeroFlag       = 1 << 0 // version 3 without subclusters
	subclusters    = 32     // of a cluster, Extended L2 Entries

	maxName      = 1023    // length of a base's name
	maxSnapshots = 1 << 16 //
	maxBitmaps   = 1 << 16 // "Bitmaps extension"
	largest      = 1 << 55 // bytes of a disk
)

const (
	thin       = "thin"
	thick      = "thick"
	compressed = "compressed"
	overlay    = "overlay"
)

// What options can be.
const (
	reserveAll    = "all"
	reserveTables = "tables"
	zlibName      = "zlib"
	zstdName      = "zstd"
)

func init() {
	version := disk.Option{Name: "version", Values: []string{"3", "2"}}
	cluster := disk.Option{Name: "block_size", Values: []string{fmt.Sprint(defaultCluster)}}
	for bits := minClusterBits; bits <= maxClusterBits; bits++ {
		if 1<<bits != defaultCluster {
			cluster.Values = append(cluster.Values, fmt.Sprint(1<<bits))
		}
	}
	row := disk.Layout{
		Name: thin, Largest: largest, Granularity: 512, Snapshots: true, Options: []disk.Option{version, cluster},
		Limit: func(o disk.Options) int64 { return min(shapeOf(o).largest(), largest) },
		Units: func(_ int64, o disk.Options) []int64 { return shapeOf(o).units() },
		FileSize: func(virtual int64, o disk.Options, stored disk.Stored) int64 {
			s := shapeOf(o)
			return s.fileSize(virtual, stored[s.cluster], stored[s.covers()])
		},
	}
	whole, packed, standing := row, row, row
	whole.Name, whole.Thick = thick, true
	whole.Options = append(whole.Options[:2:2], disk.Option{Name: "reserve", Values: []string{reserveAll, reserveTables}})
	whole.FileSize = func(virtual int64, o disk.Options, _ disk.Stored) int64 {
		return shapeOf(o).fileSize(virtual, virtual, virtual)
	}
	packed.Name, packed.Compresses = compressed, true
	packed.Options = append(packed.Options[:2:2], disk.Option{Name: "compression", Values: []string{zlibName, zstdName}})
	standing.Name, standing.Stands = overlay, true
	disk.Register(disk.Format{
		Name:       "qcow2",
		Rank:       2,
		Extensions: []string{".qcow2"},
		Layouts:    []disk.Layout{row, whole, packed, standing},
		Sniff:      func(p *disk.Probe) bool { return len(p.Head) >= 4 && binary.BigEndian.Uint32(p.Head) == magic },
		Snapshots:  true,
		Open:       open,
		Create:     create,
		Rename:     rename,
	})
}

// header is "Header" with what matters of its extensions.
type header struct {
	version        uint32
	baseOffset     uint64
	baseLength     uint32
	clusterBits    uint32
	size           uint64
	cryptMethod    uint32
	l1Entries      uint32
	l1Offset       uint64
	refcountOffset uint64
	refcountLength uint32 // in clusters
	snapshots      uint32
	snapshotOffset uint64
	incompatible   uint64
	compatible     uint64
	autoclear      uint64
	refcountOrder  uint32
	length         uint32
	compression    uint8

	base                       string
	baseFormat                 string
	dataFile                   string
	bitmaps                    uint32 // how many, and where their directory is
	bitmapLength, bitmapOffset uint64
	features                   map[uint8]string // names of incompatible features by their bit
	ended                      bool             // the end of the extensions was seen
}

// encode returns the header with its extensions and the base's name, which all have to fit into the first cluster.
func (h header) encode(cluster int) ([]byte, error) {
	b := make([]byte, headerOurs)
	be := binary.BigEndian
	be.PutUint32(b, magic)
	be.PutUint32(b[4:], h.version)
	be.PutUint32(b[20:], h.clusterBits)
	be.PutUint64(b[24:], h.size)
	be.PutUint32(b[36:], h.l1Entries)
	be.PutUint64(b[40:], h.l1Offset)
	be.PutUint64(b[48:], h.refcountOffset)
	be.PutUint32(b[56:], h.refcountLength)
	if h.version == 2 {
		b = b[:headerV2]
	} else {
		be.PutUint64(b[72:], h.incompatible)
		be.PutUint32(b[96:], h.refcountOrder)
		be.PutUint32(b[100:], headerOurs)
		b[104] = h.compression
	}
	if h.baseFormat != "" {
		b = be.AppendUint32(b, extBaseFormat)
		b = be.AppendUint32(b, uint32(len(h.baseFormat)))
		b = append(b, h.baseFormat...)
		b = append(b, make([]byte, (8-len(b)%8)%8)...)
	}
	b = append(b, make([]byte, 8)...) // the end of the extensions
	if h.base != "" {
		be.PutUint64(b[8:], uint64(len(b)))
		be.PutUint32(b[16:], uint32(len(h.base)))
		b = append(b, h.base...)
	}
	if len(h.base) > maxName || len(b) > cluster {
		return nil, fmt.Errorf("the base's name of %d bytes is too long for the image: choose a shorter one or larger clusters", len(h.base))
	}
	return b, nil
}

// shortHeader is as much as nearly every header with its extensions takes, in bytes. A cluster may be of 2 MiB.
const shortHeader = 4 << 10

// readHeader reads the header of a file of that size, and returns with it as much of the first cluster as it took.
func readHeader(file io.ReaderAt, size int64) (h header, first []byte, err error) {
	for n := int64(shortHeader); ; n = int64(h.cluster()) {
		first = make([]byte, min(size, n))
		if err := disk.ReadFull(file, first, 0); err != nil {
			return header{}, nil, fmt.Errorf("reading the header: %w", err)
		}
		if h, err = decodeHeader(first); h.ended || int64(len(first)) >= min(size, int64(h.cluster())) { // more of it would not help
			return h, first[:min(uint64(len(first)), h.cluster())], err
		}
	}
}

// decodeHeader reads the header with its extensions. cluster is the first cluster of the file, as far as the file goes or as was read of
// it.
func decodeHeader(cluster []byte) (header, error) {
	if len(cluster) < headerV2 {
		return header{}, disk.Damaged("the file ends inside the header")
	}
	be := binary.BigEndian
	if be.Uint32(cluster) != magic {
		return header{}, fmt.Errorf("%w: the mark at its start is missing", disk.ErrFormat)
	}
	h := header{
		version: be.Uint32(cluster[4:]), baseOffset: be.Uint64(cluster[8:]), baseLength: be.Uint32(cluster[16:]),
		clusterBits: be.Uint32(cluster[20:]), size: be.Uint64(cluster[24:]), cryptMethod: be.Uint32(cluster[32:]),
		l1Entries: be.Uint32(cluster[36:]), l1Offset: be.Uint64(cluster[40:]), refcountOffset: be.Uint64(cluster[48:]),
		refcountLength: be.Uint32(cluster[56:]), snapshots: be.Uint32(cluster[60:]), snapshotOffset: be.Uint64(cluster[64:]),
		refcountOrder: refcountOrder, length: headerV2,
	}
	switch h.version {
	case 2:
	case 3:
		if len(cluster) < headerV3 {
			return header{}, disk.Damaged("the file ends inside the header")
		}
		h.incompatible, h.compatible, h.autoclear = be.Uint64(cluster[72:]), be.Uint64(cluster[80:]), be.Uint64(cluster[88:])
		h.refcountOrder, h.length = be.Uint32(cluster[96:]), be.Uint32(cluster[100:])
		if h.length < headerV3 || h.length%8 != 0 || uint64(h.length) > uint64(len(cluster)) {
			return h, disk.Damaged("a header length of %d bytes is impossible", h.length)
		}
		if h.length > headerV3 {
			h.compression = cluster[104]
		}
	default:
		return header{}, disk.Unsupported("version %d of the format", h.version)
	}
	if h.clusterBits < minClusterBits || h.clusterBits > maxClusterBits {
		return header{}, disk.Damaged("cluster_bits is %d and should be from %d to %d", h.clusterBits, minClusterBits, maxClusterBits)
	}
	if len(cluster) > 1<<h.clusterBits {
		cluster = cluster[:1<<h.clusterBits]
	}
	if err := h.decodeExtensions(cluster); err != nil {
		return h, err
	}
	if h.baseOffset != 0 {
		if h.baseLength > maxName || h.baseOffset > uint64(len(cluster)) || h.baseOffset+uint64(h.baseLength) > uint64(len(cluster)) {
			h.ended = false
			return h, disk.Damaged("a base's name of %d bytes at offset %d does not fit into the header's cluster", h.baseLength, h.baseOffset)
		}
		h.base = string(cluster[h.baseOffset:][:h.baseLength])
	}
	return h, h.validate()
}

// extensionsEnd is where the extensions end at the latest.
func (h header) extensionsEnd(cluster []byte) int {
	if h.baseOffset > 0 && h.baseOffset < uint64(len(cluster)) {
		return int(h.baseOffset)
	}
	return len(cluster)
}

func (h *header) decodeExtensions(cluster []byte) error {
	be := binary.BigEndian
	end := h.extensionsEnd(cluster)
	for at := int(h.length); at+8 <= end; {
		kind, n := be.Uint32(cluster[at:]), be.Uint32(cluster[at+4:])
		at += 8
		if kind == extEnd {
			h.ended = true
			return nil
		}
		if uint64(n) > uint64(end-at) {
			return disk.Damaged("header extension %#x of %d bytes reaches beyond the header's cluster", kind, n)
		}
		data := cluster[at : at+int(n)]
		switch kind {
		case extBaseFormat:
			h.baseFormat = string(data)
		case extDataFile:
			h.dataFile = string(data)
		case extBitmaps:
			if len(data) >= 24 {
				h.bitmaps, h.bitmapLength, h.bitmapOffset = be.Uint32(data), be.Uint64(data[8:]), be.Uint64(data[16:])
			}
		case extFeatureNames: // entries of 48 bytes: kind, bit, name padded with zeros
			h.features = map[uint8]string{}
			for ; len(data) >= 48; data = data[48:] {
				if data[0] == 0 {
					h.features[data[1]] = storage.Printable(string(data[2:48]))
				}
			}
		}
		at += (int(n) + 7) / 8 * 8
	}
	h.ended = end < len(cluster)
	return nil
}

// validate bounds every field before anything is computed from it.
func (h header) validate() error {
	for bit := range uint8(64) {
		if h.incompatible&^knownFeatures&(1<<bit) == 0 {
			continue
		}
		if name := h.features[bit]; name != "" {
			return disk.Unsupported("the image needs the feature %q (bit %d)", name, bit)
		}
		return disk.Unsupported("the image needs an unknown feature (bit %d)", bit)
	}
	switch {
	case h.cryptMethod != 0:
		return disk.Unsupported("the image is encrypted (method %d): decrypt it where its key is", h.cryptMethod)
	case h.compression > compressionZstd:
		return disk.Unsupported("compression type %d", h.compression)
	case (h.compression != compressionZlib) != (h.incompatible&compressionBit != 0):
		return disk.Damaged("compression type %d and the feature bit for it disagree", h.compression)
	case h.refcountOrder > maxRefcount:
		return disk.Damaged("refcount_order is %d and can be %d at most", h.refcountOrder, maxRefcount)
	case h.size > largest:
		return disk.Damaged("a virtual size of %d bytes is absurd", h.size)
	case h.bitmaps > maxBitmaps:
		return disk.Damaged("%d bitmaps are absurd", h.bitmaps)
	case h.snapshots > maxSnapshots:
		return disk.Damaged("%d snapshots are absurd", h.snapshots)
	case h.incompatible&extendedL2Bit != 0 && h.clusterBits < 14:
		return disk.Damaged("subclusters in clusters of only %d bytes", 1<<h.clusterBits)
	case h.incompatible&dataFileBit != 0 && h.dataFile == "":
		return disk.Damaged("guest data is said to lie in another file, but its name is missing")
	}
	if need := h.l1Needed(); uint64(h.l1Entries) < need {
		return disk.Damaged("the L1 table has %d entries and the disk needs %d", h.l1Entries, need)
	}
	if h.l1Offset%h.cluster() != 0 {
		return disk.Damaged("the L1 table's offset %#x is not on a cluster", h.l1Offset)
	}
	return nil
}

func (h header) cluster() uint64 { return 1 << h.clusterBits }

// entrySize is the length of an L2 entry.
func (h header) entrySize() uint64 {
	if h.incompatible&extendedL2Bit != 0 {
		return 16
	}
	return 8
}

// l2Entries is how many clusters one L2 table covers.
func (h header) l2Entries() uint64 { return h.cluster() / h.entrySize() }

func (h header) l1Needed() uint64 {
	covers := h.cluster() * h.l2Entries()
	return (h.size + covers - 1) / covers
}
