package inspect

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"unicode/utf16"

	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// Facts of the partition tables: MBR as usual since PC DOS 2.0, GPT by the UEFI specification 2.10, section 5.
const (
	mbrSignature = 0xaa55
	mbrTable     = 446 // offset of four entries of 16 bytes
	mbrProtects  = 0xee
	mbrActive    = 0x80
	maxLogical   = 128 // logical partitions that are followed

	gptSignature  = "EFI PART"
	gptHeaderSize = 92
	maxGPTEntries = 1024
)

// mbrTypes are the names of the types that are met.
var mbrTypes = map[byte]string{
	0x01:        "FAT12",
	0x04:        "FAT16",
	0x05:        "extended",
	0x06:        "FAT16",
	0x07:        "NTFS or exFAT",
	0x0b:        "FAT32",
	0x0c:        "FAT32",
	0x0e:        "FAT16",
	0x0f:        "extended",
	0x82:        "Linux swap",
	0x83:        "Linux",
	0x8e:        "Linux LVM",
	0xa5:        "BSD",
	0xef:        "EFI system",
	0xfd:        "Linux RAID",
	mbrProtects: "protective",
}

// TypeBIOSBoot is the type of a partition that a loader for BIOS lies in, which is found by where it lies.
const TypeBIOSBoot = "BIOS boot"

// SmallTypes are those, in lower case, of partitions that a system is started or repaired from, or swaps to: nothing grows in them.
var SmallTypes = []string{"efi system", "bios boot", "reserved", "recovery", "linux swap", "extended"}

// gptTypes are the names of the types that are met (UEFI 5.3.3 and the Discoverable Partitions Specification).
var gptTypes = map[string]string{
	"c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "EFI system",
	"21686148-6449-6e6f-744e-656564454649": TypeBIOSBoot,
	"0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux",
	"4f68bce3-e8cd-4db1-96e7-fbcaf984b709": "Linux root (x86-64)",
	"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "Linux swap",
	"e6d6d379-f507-44c2-a23c-238f2a3df928": "Linux LVM",
	"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "basic data",
	"e3c9e316-0b5c-4db8-817d-f92df00215ae": "reserved",
	"de94bba4-06d1-4d40-a16a-bfd50179d6ac": "recovery",
}

// mbr reads the partitions of an MBR, also the logical ones. It returns nil when sector is none.
func mbr(d Disk, sector []byte) ([]Partition, error) {
	if binary.LittleEndian.Uint16(sector[510:]) != mbrSignature {
		return nil, nil
	}
	if !plausible(sector) {
		return nil, nil
	}
	found := []Partition{}
	for i := range 4 {
		kind, first, count := mbrEntry(sector, i)
		if kind == 0 || count == 0 {
			continue
		}
		found = append(
			found,
			Partition{Number: i + 1, Offset: first * 512, Length: count * 512, Type: typeName(kind), Active: sector[mbrTable+16*i] == mbrActive},
		)
		if kind == 0x05 || kind == 0x0f {
			logical, err := logicals(d, first)
			if err != nil {
				return nil, err
			}
			found = append(found, logical...)
		}
	}
	return found, nil
}

// plausible tells whether four entries can be those of an MBR: random data may end with its two bytes. Each is active or not, partitions
// do not begin where the table lies, and do not overlap.
func plausible(sector []byte) bool {
	type run struct{ first, end int64 }
	var runs []run
	for i := range 4 {
		if status := sector[mbrTable+16*i]; status != 0 && status != mbrActive {
			return false
		}
		kind, first, count := mbrEntry(sector, i)
		if kind == 0 || count == 0 {
			continue
		}
		for _, r := range runs {
			if first < r.end && r.first < first+count {
				return false
			}
		}
		if first == 0 {
			return false
		}
		runs = append(runs, run{first, first + count})
	}
	return true
}

func mbrEntry(sector []byte, i int) (kind byte, first, count int64) {
	e := sector[mbrTable+16*i:][:16]
	return e[4], int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:]))
}

func typeName(kind byte) string {
	if name, ok := mbrTypes[kind]; ok {
		return name
	}
	return fmt.Sprintf("type 0x%02x", kind)
}

// logicals follows the chain of an extended partition that starts at the given sector.
func logicals(d Disk, start int64) ([]Partition, error) {
	var found []Partition
	for at, n := start, 0; n < maxLogical; n++ {
		sector, err := read(d, at*512, 512)
		if err != nil {
			return nil, err
		}
		if binary.LittleEndian.Uint16(sector[510:]) != mbrSignature {
			return found, nil
		}
		if kind, first, count := mbrEntry(sector, 0); kind != 0 && count != 0 {
			found = append(found, Partition{Number: 5 + n, Offset: (at + first) * 512, Length: count * 512, Type: typeName(kind)})
		}
		kind, next, _ := mbrEntry(sector, 1)
		if kind == 0 || next == 0 {
			return found, nil
		}
		at = start + next
	}
	return found, nil
}

// gpt reads the partitions of a GPT with sectors of the given size: those of its first copy, or those of the second one where only that is right. It
// returns nil when there is none.
func gpt(d Disk, sector int64, c *Contents) ([]Partition, error) {
	first, err := gptAt(d, sector, sector)
	if err != nil {
		return nil, err
	}
	second, err := gptAt(d, d.Size()/sector*sector-sector, sector)
	if err != nil {
		return nil, err
	}
	table := first
	switch {
	case first == nil && (second == nil || len(second.wrong) > 0):
		return nil, nil
	case first == nil:
		c.doubt("the first copy of the partition table is not there: the second one is used")
		table = second
	case len(first.wrong) > 0 && second != nil && len(second.wrong) == 0:
		c.doubt(first.wrong[0] + ": the second copy is used, which is right")
		table = second
	default:
		for _, wrong := range first.wrong {
			c.doubt(wrong)
		}
		if first.last*sector > d.Size()-sector {
			c.doubt("the second copy of the partition table would lie behind the end of the disk: the disk was cut")
		} else if first.last*sector < d.Size()-sector {
			c.Warnings = append(c.Warnings, "the second copy of the partition table is not at the end of the disk: the disk has become larger")
		}
	}
	c.SectorSize = sector
	return table.found, nil
}

// gptCopy is a copy of a GPT.
type gptCopy struct {
	found []Partition
	last  int64    // the sector in which it says that the other one is
	wrong []string // what does not agree in it
}

// gptAt reads a copy whose header lies at an offset, nil where there is none.
func gptAt(d Disk, off, sector int64) (*gptCopy, error) {
	h, err := read(d, off, gptHeaderSize)
	if err != nil || string(h[:8]) != gptSignature {
		return nil, err
	}
	le := binary.LittleEndian
	t := &gptCopy{found: []Partition{}, last: int64(le.Uint64(h[32:]))}
	if le.Uint32(h[12:]) == gptHeaderSize &&
		crc32.ChecksumIEEE(append(append([]byte{}, h[:16]...), append(make([]byte, 4), h[20:]...)...)) != le.Uint32(h[16:]) {
		t.wrong = append(t.wrong, "the checksum of the partition table's header is wrong")
	}
	count, size := int64(le.Uint32(h[80:])), int64(le.Uint32(h[84:]))
	start := int64(le.Uint64(h[72:]))
	if count > maxGPTEntries || size < 128 || size > 4096 || start < 0 || start > d.Size()/sector {
		t.wrong = append(t.wrong, "the partition table's header makes no sense")
		return t, nil
	}
	table, err := read(d, start*sector, count*size)
	if err != nil {
		return nil, err
	}
	if crc32.ChecksumIEEE(table) != le.Uint32(h[88:]) {
		t.wrong = append(t.wrong, "the checksum of the partition table's entries is wrong")
	}
	for i := range count {
		e := table[i*size:][:size]
		kind := guid(e[:16])
		first, last := int64(le.Uint64(e[32:])), int64(le.Uint64(e[40:]))
		if kind == (uuid.UUID{}) || first < 0 || last < first || last >= 1<<62/sector {
			continue
		}
		name, ok := gptTypes[kind.String()]
		if !ok {
			name = "type " + kind.String()
		}
		t.found = append(
			t.found,
			Partition{Number: int(i) + 1, Offset: first * sector, Length: (last - first + 1) * sector, Type: name, Name: utf16Text(e[56:128])},
		)
	}
	return t, nil
}

// guid reads a GUID, of which the first three fields are little-endian (UEFI, appendix A).
func guid(b []byte) uuid.UUID {
	return uuid.UUID{b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]}
}

func utf16Text(b []byte) string {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return text(string(utf16.Decode(units)))
}

// text takes what can be shown of a name up to its first NUL: it may hold anything.
func text(s string) string {
	s, _, _ = strings.Cut(s, "\x00")
	return storage.Printable(s)
}
