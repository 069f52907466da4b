// Package vdi reads virtual disk images of version 1.1: dynamic, fixed and differencing, and writes the first two.
// The format has no formal specification; the header's layout is as published with it and as seen in files
// (docs/formats.md).
package vdi

import (
	"encoding/binary"
	"math"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// The format's facts. All numbers in the file are little-endian; offsets are from the start of the file.
const (
	signature    = 0xbeda107f
	signatureAt  = 64 // behind a line of text that says nothing
	version11    = 0x00010001
	headerSize   = 400 // from headerAt on; older writers have 384 without the last geometry
	headerAt     = 72
	headerEnd    = headerAt + headerSize
	typeDynamic  = 1
	typeFixed    = 2
	typeUndo     = 3 // not read
	typeDiffer   = 4 // read only
	sectorSize   = 512
	free         = math.MaxUint32     // map entry: not stored
	zero         = math.MaxUint32 - 1 // map entry: known to be zeros
	mib          = 1 << 20            // block size and alignment of images that we write
	largestBlock = 256 << 20
	largest      = 16 << 40 // of disks that we write: a map of 64 MiB
	text         = "<<< Virtual disk image, written by Bagaglio >>>\n"
)

const (
	dynamic      = "dynamic"
	fixed        = "fixed"
	differencing = "differencing"
)

func init() {
	disk.Register(disk.Format{
		Name:       "vdi",
		Rank:       6,
		Extensions: []string{".vdi"},
		Layouts: []disk.Layout{
			{
				Name:        dynamic,
				Largest:     largest,
				Granularity: sectorSize,
				Units:       disk.AnyUnits(mib),
				FileSize: func(virtual int64, _ disk.Options, stored disk.Stored) int64 {
					return dataOffset(virtual) + up(stored[mib])
				},
			},
			{
				Name:        fixed,
				Thick:       true,
				Largest:     largest,
				Granularity: sectorSize,
				Units:       disk.AnyUnits(mib),
				FileSize: func(virtual int64, _ disk.Options, _ disk.Stored) int64 {
					return dataOffset(virtual) + up(virtual)
				},
			},
		},
		Sniff: func(p *disk.Probe) bool {
			return len(p.Head) >= headerAt && binary.LittleEndian.Uint32(p.Head[signatureAt:]) == signature
		},
		Open:   open,
		Create: create,
	})
}

// up rounds up to whole MiB, which is the length of a block and the alignment of everything.
func up(n int64) int64 { return (n + mib - 1) / mib * mib }

// dataOffset is where the first block of an image that we write lies, behind header and map.
func dataOffset(virtual int64) int64 {
	return up(mib + 4*(up(virtual)/mib))
}

// header is what matters of the header.
type header struct {
	text       string // its first line
	kind       uint32
	mapOffset  uint32
	dataOffset uint32
	size       uint64
	block      uint32
	extra      uint32 // bytes in front of each block
	blocks     uint32
	allocated  uint32
	id         [16]byte
	changed    [16]byte // a UUID of the last change
	parent     [16]byte // zero without one
	parentAt   [16]byte // the parent's last change, when this disk was put on it
}

func (h header) encode() []byte {
	b := make([]byte, headerEnd)
	le := binary.LittleEndian
	copy(b, text)
	le.PutUint32(b[signatureAt:], signature)
	le.PutUint32(b[68:], version11)
	le.PutUint32(b[72:], headerSize)
	le.PutUint32(b[76:], h.kind)
	le.PutUint32(b[340:], h.mapOffset)
	le.PutUint32(b[344:], h.dataOffset)
	le.PutUint32(b[360:], sectorSize)
	le.PutUint64(b[368:], h.size)
	le.PutUint32(b[376:], h.block)
	le.PutUint32(b[384:], h.blocks)
	le.PutUint32(b[388:], h.allocated)
	copy(b[392:], guid(h.id))
	copy(b[408:], guid(h.id)) // of the last change
	le.PutUint32(b[468:], sectorSize)
	return b
}

// guid swaps a UUID between its usual order and that of the file, in which the first three fields are little-endian.
func guid(id [16]byte) []byte {
	return []byte{id[3], id[2], id[1], id[0], id[5], id[4], id[7], id[6], id[8], id[9], id[10], id[11], id[12], id[13], id[14], id[15]}
}

func decodeHeader(b []byte) (header, error) {
	le := binary.LittleEndian
	if le.Uint32(b[signatureAt:]) != signature {
		return header{}, disk.Damaged("the signature is missing")
	}
	if v := le.Uint32(b[68:]); v>>16 != 1 {
		return header{}, disk.Unsupported("version %d.%d of the format", v>>16, v&0xffff)
	}
	line, _, _ := strings.Cut(string(b[:signatureAt]), "\n")
	h := header{
		text: storage.Printable(
			strings.Trim(line, "<> \x00"),
		),
		kind:       le.Uint32(b[76:]),
		mapOffset:  le.Uint32(b[340:]),
		dataOffset: le.Uint32(b[344:]),
		size:       le.Uint64(b[368:]),
		block:      le.Uint32(b[376:]),
		extra:      le.Uint32(b[380:]),
		blocks:     le.Uint32(b[384:]),
		allocated:  le.Uint32(b[388:]),
		id:         [16]byte(guid([16]byte(b[392:408]))),
		changed:    [16]byte(guid([16]byte(b[408:424]))),
		parent:     [16]byte(guid([16]byte(b[424:440]))),
		parentAt:   [16]byte(guid([16]byte(b[440:456]))),
	}
	return h, h.validate(le.Uint32(b[72:]), le.Uint32(b[360:]))
}

// validate bounds every field before anything is computed from it.
func (h header) validate(length, sector uint32) error {
	switch {
	case length < 348:
		return disk.Damaged("a header of %d bytes is too short", length)
	case h.kind == typeUndo:
		return disk.Unsupported("an undo image")
	case h.kind == typeDiffer && h.parent == [16]byte{}:
		return disk.Damaged("the disk stands on a parent, but does not say on which")
	case h.kind != typeDynamic && h.kind != typeFixed && h.kind != typeDiffer:
		return disk.Damaged("image type %d does not exist", h.kind)
	case sector != sectorSize:
		return disk.Damaged("a sector size of %d bytes is not %d", sector, sectorSize)
	case h.block < sectorSize || h.block > largestBlock || h.block&(h.block-1) != 0:
		return disk.Damaged("a block size of %d bytes is not a power of two from %d to %d", h.block, sectorSize, largestBlock)
	case h.extra%sectorSize != 0 || h.extra > h.block:
		return disk.Damaged("%d extra bytes for each block make no sense", h.extra)
	case h.size == 0 || h.size > uint64(h.block)*uint64(h.blocks):
		return disk.Damaged("a size of %d bytes does not fit into %d blocks of %d", h.size, h.blocks, h.block)
	case h.mapOffset%sectorSize != 0 || h.mapOffset < 384:
		return disk.Damaged("the map's offset %d is not on a sector behind the header", h.mapOffset)
	case h.dataOffset%sectorSize != 0 || uint64(h.dataOffset) < uint64(h.mapOffset)+4*uint64(h.blocks):
		return disk.Damaged("the data's offset %d lies in the header or in the map", h.dataOffset)
	}
	return nil
}
