// Package hdd reads and writes expanding and plain disk images, alone and in bundle folders.
// The format has no public specification; what is known of it is in docs/formats.md.
package hdd

import (
	"encoding/binary"
	"slices"

	"bagaglio/core/disk"
)

// The format's facts. All numbers in the file are little-endian.
const (
	markClusters = "WithouFreSpacExt" // table entries count clusters from the start of the file
	markSectors  = "WithoutFreeSpace" // the older kind: they count sectors
	version      = 2
	headerSize   = 64
	tableAt      = 64
	sector       = 512
	inUse        = 0x746F6E59
	heads        = 16 // of the geometry of images that we write
	track        = 32 //
	mib          = 1 << 20
	maxCluster   = 256 * mib
	largest      = 16 << 40 // of disks that we write: a table of 64 MiB

	descriptorName = "DiskDescriptor.xml" // of a bundle folder
	maxDescriptor  = 1 << 20
	maxLayers      = 256
)

const (
	expanding = "expanding"
	plain     = "plain"

	bundleNo  = "no"
	bundleYes = "yes"
)

func init() {
	disk.Register(disk.Format{
		Name:       "hdd",
		Rank:       7,
		Extensions: []string{".hds", ".hdd"},
		Layouts: []disk.Layout{
			{
				Name: expanding, Largest: largest, Granularity: sector, Units: disk.AnyUnits(mib), Names: names(expanding),
				Options: []disk.Option{{Name: "bundle", Values: []string{bundleNo, bundleYes}}},
				FileSize: func(virtual int64, o disk.Options, stored disk.Stored) int64 {
					return firstCluster(virtual) + stored[mib] + bundleSize(expanding, o)
				},
			},
			{
				Name: plain, Thick: true, Largest: largest, Granularity: sector, Units: disk.AnyUnits(1), Names: names(plain),
				Options:  []disk.Option{{Name: "bundle", Values: []string{bundleYes, bundleNo}}},
				FileSize: func(virtual int64, o disk.Options, _ disk.Stored) int64 { return virtual + bundleSize(plain, o) },
			},
		},
		Sniff: func(p *disk.Probe) bool {
			return slices.Contains(p.Names, descriptorName) ||
				len(p.Head) >= 16 && (string(p.Head[:16]) == markClusters || string(p.Head[:16]) == markSectors)
		},
		Snapshots: true,
		Open:      open,
		Create:    create,
	})
}

func up(n int64) int64 { return (n + mib - 1) / mib * mib }

// firstCluster is where the first cluster of an image that we write lies, behind header and table.
func firstCluster(virtual int64) int64 { return up(tableAt + 4*(up(virtual)/mib)) }

var errNoMark = disk.Damaged("the mark at its start is missing")

type header struct {
	clusters bool   // entries count clusters, not sectors
	cluster  uint32 // length in sectors
	entries  uint32
	sectors  uint64 // of the disk
	inUse    bool
	data     uint32 // sector of the first cluster; 0 says nothing
}

func (h header) encode() []byte {
	b := make([]byte, headerSize)
	le := binary.LittleEndian
	copy(b, markClusters)
	le.PutUint32(b[16:], version)
	le.PutUint32(b[20:], heads)
	le.PutUint32(b[24:], uint32(h.sectors/heads/track))
	le.PutUint32(b[28:], h.cluster)
	le.PutUint32(b[32:], h.entries)
	le.PutUint64(b[36:], h.sectors)
	le.PutUint32(b[48:], h.data)
	return b
}

func decodeHeader(b []byte) (header, error) {
	le := binary.LittleEndian
	h := header{
		clusters: string(b[:16]) == markClusters, cluster: le.Uint32(b[28:]), entries: le.Uint32(b[32:]), sectors: le.Uint64(b[36:]),
		inUse: le.Uint32(b[44:]) == inUse, data: le.Uint32(b[48:]),
	}
	if !h.clusters {
		if string(b[:16]) != markSectors {
			return h, errNoMark
		}
		h.sectors &= 1<<32 - 1 // the older kind has no more
	}
	switch {
	case le.Uint32(b[16:]) != version:
		return h, disk.Unsupported("version %d of the format", le.Uint32(b[16:]))
	case h.cluster == 0 || h.cluster > maxCluster/sector:
		return h, disk.Damaged("a cluster of %d sectors makes no sense", h.cluster)
	case h.sectors == 0 || h.sectors > uint64(h.cluster)*uint64(h.entries):
		return h, disk.Damaged("a disk of %d sectors does not fit into %d clusters of %d", h.sectors, h.entries, h.cluster)
	}
	return h, nil
}
