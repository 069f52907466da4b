package fat

import (
	"io/fs"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

// Facts of folders ("FAT Directory Structure").
const (
	atAttributes                = 11
	atClusterHigh, atTime       = 20, 22
	atDate, atClusterLow, atLen = 24, 26, 28

	isReadOnly, isLabel, isFolder = 0x01, 0x08, 0x10
	isLong                        = 0x0f // all four of read-only, hidden, system, label
	lastLong                      = 0x40
	deleted, firstIsE5            = 0xe5, 0x05

	atLowerCase         = 12 // bits of which part of a short name is lower case
	lowerBase, lowerExt = 0x08, 0x10
)

// longParts are where the letters of a long name are in an entry.
var longParts = [][2]int{{1, 11}, {14, 26}, {28, 32}}

const (
	// maxFolder bounds a folder, in bytes.
	maxFolder = 64 << 20
	// longUnits is how many letters of a long name an entry has.
	longUnits = 13
)

// Root is the folder at the top. Any other node is the offset of its entry in the folder that it is in.
func (v *volume) Root() uint64 { return 0 }

// AnyCase tells that names which differ in case only are the same.
func (v *volume) AnyCase() {}

// Stat says what an entry is.
func (v *volume) Stat(node uint64) (inspect.Info, error) {
	if node == 0 {
		return inspect.Info{Mode: fs.ModeDir | 0o755}, nil
	}
	e, err := v.dirent(node)
	if err != nil {
		return inspect.Info{}, err
	}
	i := inspect.Info{Mode: 0o644, Size: int64(le.Uint32(e[atLen:])), Modified: when(le.Uint16(e[atDate:]), le.Uint16(e[atTime:]))}
	if e[atAttributes]&isReadOnly != 0 {
		i.Mode = 0o444
	}
	if e[atAttributes]&isFolder != 0 {
		i.Mode, i.Size = fs.ModeDir|i.Mode|0o111, 0
	}
	return i, nil
}

// when is a date and time, in a zone that nobody knows.
func when(date, clock uint16) time.Time {
	return time.Date(1980+int(date>>9), time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0, time.UTC)
}

func (v *volume) dirent(node uint64) ([]byte, error) {
	at := int64(node)
	if at < v.root || at > v.size-entrySize {
		return nil, disk.Damaged("an entry at %d", at)
	}
	b := make([]byte, entrySize)
	_, err := v.r.ReadAt(b, at)
	return b, err
}

func (v *volume) firstCluster(e []byte) int64 {
	n := int64(le.Uint16(e[atClusterLow:]))
	if v.bits == 32 {
		n |= int64(le.Uint16(e[atClusterHigh:])) << 16
	}
	return n
}

// Pieces returns where a file or folder lies.
func (v *volume) Pieces(node uint64) ([]inspect.Piece, error) {
	if node == 0 {
		if v.bits == 32 {
			return v.chain(v.rootCluster, -1)
		}
		return []inspect.Piece{{Len: v.rootSize, At: v.root}}, nil
	}
	e, err := v.dirent(node)
	if err != nil {
		return nil, err
	}
	if e[atAttributes]&isFolder != 0 {
		return v.chain(v.firstCluster(e), -1)
	}
	return v.chain(v.firstCluster(e), int64(le.Uint32(e[atLen:])))
}

// List reads a folder.
func (v *volume) List(node uint64) (all []inspect.Entry, err error) {
	pieces, err := v.Pieces(node)
	if err != nil {
		return nil, err
	}
	var long []uint16 // the name so far, its end first
	var sum byte
	var read int64
	for _, p := range pieces {
		if read += p.Len; read > maxFolder {
			return nil, disk.Damaged("a folder of more than %d bytes", maxFolder)
		}
		b := make([]byte, p.Len)
		if _, err := v.r.ReadAt(b, p.At); err != nil {
			return nil, err
		}
		for at := int64(0); at+entrySize <= p.Len; at += entrySize {
			e := b[at : at+entrySize]
			switch {
			case e[0] == 0:
				return all, nil
			case e[0] == deleted:
				long = nil
				continue
			case e[atAttributes]&0x3f == isLong:
				if e[0]&lastLong != 0 {
					long, sum = nil, e[13]
				}
				if len(long) < 20*longUnits && e[13] == sum {
					long = append(units(e), long...)
				}
				continue
			}
			name := shortName(e)
			if long != nil && checksum(e) == sum {
				name = longName(long)
			}
			long = nil
			if e[atAttributes]&isLabel == 0 && name != "." && name != ".." && name != "" {
				all = append(all, inspect.Entry{Name: storage.ShownName(strings.ReplaceAll(name, "/", "_")), Node: uint64(p.At + at)})
			}
		}
	}
	return all, nil
}

// units are the letters of a long name in an entry.
func units(e []byte) (all []uint16) {
	for _, part := range longParts {
		for at := part[0]; at < part[1]; at += 2 {
			all = append(all, le.Uint16(e[at:]))
		}
	}
	return all
}

func longName(units []uint16) string {
	if i := slices.Index(units, 0); i >= 0 {
		units = units[:i]
	}
	return string(utf16.Decode(units))
}

// shortName is that of eight and three letters. Those that are not ASCII are of a code page that nobody knows.
func shortName(e []byte) string {
	base, extension := slices.Clone(e[:8]), string(e[8:11])
	if base[0] == firstIsE5 {
		base[0] = deleted
	}
	name := strings.TrimRight(string(base), " ")
	if e[atLowerCase]&lowerBase != 0 {
		name = strings.ToLower(name)
	}
	if extension = strings.TrimRight(extension, " "); extension != "" {
		if e[atLowerCase]&lowerExt != 0 {
			extension = strings.ToLower(extension)
		}
		name += "." + extension
	}
	return name
}

// checksum is that of a short name, which its long name has too.
func checksum(e []byte) (sum byte) {
	for _, c := range e[:11] {
		sum = sum>>1 | sum<<7
		sum += c
	}
	return sum
}
