package inspect

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"github.com/google/uuid"
)

// kindLVM is what LVM has.
const kindLVM = "lvm"

// marks: where each filesystem has which bytes, from the start of its partition, and how its label and identifier are
// read from its first 128 KiB. What comes first is looked at first.
var marks = []struct {
	kind string
	off  int
	mark string
	more func(b []byte, f *Filesystem)
}{
	{"luks", 0, "LUKS\xba\xbe", func(b []byte, f *Filesystem) { f.ID = text(string(b[168:208])) }},
	{kindLVM, 512, "LABELONE", nil},
	{kindLVM, 0, "LABELONE", nil},
	{"bitlocker", 3, "-FVE-FS-", nil},
	{"raid member", 4096, "\xfc\x4e\x2b\xa9", nil}, // of Linux, version 1.2
	{"raid member", 0, "\xfc\x4e\x2b\xa9", nil},
	{"xfs", 0, "XFSB", func(b []byte, f *Filesystem) { f.Label, f.ID = text(string(b[108:120])), id(b[32:]) }},
	{"ext", 1080, "\x53\xef", ext},
	{"btrfs", 65600, "_BHRfS_M", func(b []byte, f *Filesystem) {
		f.Label, f.ID = text(string(b[65536+299:65536+299+256])), id(b[65536+32:])
	}},
	{"ntfs", 3, "NTFS    ", func(b []byte, f *Filesystem) { f.ID = fmt.Sprintf("%016X", binary.LittleEndian.Uint64(b[72:])) }},
	{"exfat", 3, "EXFAT   ", func(b []byte, f *Filesystem) { f.ID = shortID(b[100:]) }},
	{"fat32", 82, "FAT32   ", func(b []byte, f *Filesystem) { f.Label, f.ID = text(string(b[71:82])), shortID(b[67:]) }},
	{"fat16", 54, "FAT16   ", func(b []byte, f *Filesystem) { f.Label, f.ID = text(string(b[43:54])), shortID(b[39:]) }},
	{"fat12", 54, "FAT12   ", func(b []byte, f *Filesystem) { f.Label, f.ID = text(string(b[43:54])), shortID(b[39:]) }},
	{"swap", 4086, "SWAPSPACE2", func(b []byte, f *Filesystem) { f.Label, f.ID = text(string(b[1052:1068])), id(b[1036:]) }},
	{"iso9660", 32769, "CD001", func(b []byte, f *Filesystem) { f.Label = text(string(b[32808:32840])) }},
}

func id(b []byte) string { return uuid.UUID(b[:16]).String() }

func shortID(b []byte) string {
	n := binary.LittleEndian.Uint32(b)
	return fmt.Sprintf("%04X-%04X", n>>16, n&0xffff)
}

// ext tells ext2, ext3 and ext4 apart by their features (superblock at 1024).
func ext(b []byte, f *Filesystem) {
	le := binary.LittleEndian
	const journal, extents = 0x4, 0x40
	switch {
	case le.Uint32(b[1024+0x60:])&extents != 0:
		f.Kind = "ext4"
	case le.Uint32(b[1024+0x5c:])&journal != 0:
		f.Kind = "ext3"
	default:
		f.Kind = "ext2"
	}
	f.Label, f.ID = text(string(b[1024+0x78:1024+0x88])), id(b[1024+0x68:])
}

// filesystem recognises what lies in a range of the disk, nil for nothing that is known.
func filesystem(d Disk, off, length int64) (*Filesystem, error) {
	const head = 128 << 10
	if length <= 0 {
		return nil, nil
	}
	b, err := read(d, off, head)
	if err != nil {
		return nil, err
	}
	clear(b[min(length, head):])
	for _, m := range marks {
		if !bytes.HasPrefix(b[m.off:], []byte(m.mark)) {
			continue
		}
		f := &Filesystem{Kind: m.kind}
		if m.more != nil {
			m.more(b, f)
		}
		return f, nil
	}
	return nil, nil
}
