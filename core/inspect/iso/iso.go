// Package iso reads ISO 9660 (ECMA-119), with the names of Rock Ridge (IEEE P1282) or Joliet where it has them.
package iso

import (
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

func init() { inspect.Register(open, "iso9660") }

// Facts of volume descriptors (8.4) and records of folders (9.1); numbers are read from their little-endian halves.
const (
	sector      = 2048
	first       = 16 // sector of the first descriptor
	maxSets     = 64
	primary     = 1
	secondary   = 2
	last        = 255
	atEscapes   = 88
	atSpace     = 80
	atBlock     = 128
	atRoot      = 156
	recordLeast = 34

	atExtent, atLen   = 2, 10
	atDate, atFlags   = 18, 25
	atNameLen, atName = 32, 33
	isFolder, goesOn  = 0x02, 0x80

	maxFolder  = 64 << 20
	maxExtents = 1 << 12
)

// joliet are the escape sequences of its three levels.
var joliet = []string{"%/@", "%/C", "%/E"}

var le = binary.LittleEndian

// volume is an open filesystem.
type volume struct {
	r     io.ReaderAt
	size  int64
	total int64
	root  int64 // where the record of the folder at the top lies
	wide  bool  // names are UTF-16 (Joliet)
	rocky bool  // records have more in them (Rock Ridge)
	skip  int   // bytes of each record's system use that are somebody else's
}

// open reads the volume descriptors.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	v := &volume{r: r, size: size}
	var wide int64
	for i := range int64(maxSets) {
		b := make([]byte, sector)
		at := (first + i) * sector
		if _, err := r.ReadAt(b, at); err != nil {
			return nil, err
		}
		if string(b[1:6]) != "CD001" || b[0] == last {
			break
		}
		switch {
		case b[0] == primary && v.root == 0:
			if le.Uint16(b[atBlock:]) != sector {
				return nil, disk.Damaged("blocks of %d bytes", le.Uint16(b[atBlock:]))
			}
			v.total, v.root = min(int64(le.Uint32(b[atSpace:]))*sector, size), at+atRoot
		case b[0] == secondary && slices.Contains(joliet, string(b[atEscapes:atEscapes+3])):
			wide = at + atRoot
		}
	}
	if v.root == 0 {
		return nil, disk.Damaged("no volume is described in it")
	}
	if err := v.readRock(); err != nil {
		return nil, err
	}
	if !v.rocky && wide != 0 {
		v.root, v.wide = wide, true
	}
	return v, nil
}

// record reads one of a folder.
func (v *volume) record(at int64) ([]byte, error) {
	if at < first*sector || at > v.size-recordLeast {
		return nil, disk.Damaged("a record at %d", at)
	}
	b := make([]byte, min(255, v.size-at))
	if _, err := v.r.ReadAt(b, at); err != nil {
		return nil, err
	}
	n := int(b[0])
	if n < recordLeast || n > len(b) || atName+int(b[atNameLen]) > n {
		return nil, disk.Damaged("a record of %d bytes at %d", n, at)
	}
	return b[:n], nil
}

// About says how full it is: all of it is.
func (v *volume) About() inspect.About { return inspect.About{Size: v.total, Used: v.total} }

// Used tells all of it.
func (v *volume) Used(_ context.Context, each func(fingerprint.Range) error) error {
	return each(fingerprint.Range{Length: v.total})
}

// Root is the folder at the top. Nodes are where their records lie.
func (v *volume) Root() uint64 { return uint64(v.root) }

// extents are where a file or folder lies: a long one has a record for each part.
func (v *volume) extents(node uint64) (all []inspect.Piece, err error) {
	var off int64
	for at := int64(node); len(all) < maxExtents; {
		r, err := v.record(at)
		if err != nil {
			return nil, err
		}
		p := inspect.Piece{Off: off, Len: int64(le.Uint32(r[atLen:])), At: int64(le.Uint32(r[atExtent:])) * sector}
		if p.At+p.Len > v.size {
			return nil, disk.Damaged("a file behind its end, at %d", p.At)
		}
		if all, off = append(all, p), off+p.Len; r[atFlags]&goesOn == 0 {
			return all, nil
		}
		at += int64(len(r))
		if b := make([]byte, 1); at%sector != 0 {
			if _, err := v.r.ReadAt(b, at); err != nil {
				return nil, err
			}
			if b[0] == 0 { // records do not go on over the end of a sector
				at = (at/sector + 1) * sector
			}
		}
	}
	return nil, disk.Damaged("a file in more than %d parts", maxExtents)
}

// Pieces returns where a file or folder lies. The target of a link is in its record.
func (v *volume) Pieces(node uint64) ([]inspect.Piece, error) {
	more, err := v.more(int64(node))
	if err != nil {
		return nil, err
	}
	if more.target != "" {
		return []inspect.Piece{{Len: int64(len(more.target)), Data: []byte(more.target)}}, nil
	}
	return v.extents(node)
}

// Stat says what a record is of.
func (v *volume) Stat(node uint64) (inspect.Info, error) {
	r, err := v.record(int64(node))
	if err != nil {
		return inspect.Info{}, err
	}
	more, err := v.more(int64(node))
	if err != nil {
		return inspect.Info{}, err
	}
	d := r[atDate:]
	i := inspect.Info{Mode: 0o444, Modified: time.Date(1900+int(d[0]), time.Month(d[1]), int(d[2]), int(d[3]), int(d[4]), int(d[5]), 0,
		time.FixedZone("", int(int8(d[6]))*15*60))}
	switch {
	case r[atFlags]&isFolder != 0:
		i.Mode = fs.ModeDir | 0o555
	case more.target != "":
		i.Size = int64(len(more.target))
	default:
		pieces, err := v.extents(node)
		if err != nil {
			return i, err
		}
		end := pieces[len(pieces)-1]
		i.Size = end.Off + end.Len
	}
	if more.mode != 0 {
		i.Mode = more.mode
	}
	return i, nil
}

// List reads a folder.
func (v *volume) List(folder uint64) (all []inspect.Entry, err error) {
	pieces, err := v.extents(folder)
	if err != nil {
		return nil, err
	}
	var read int64
	long := false // the record before goes on in this one
	for _, p := range pieces {
		if read += p.Len; read > maxFolder {
			return nil, disk.Damaged("a folder of more than %d bytes", maxFolder)
		}
		for at := p.At; at < p.At+p.Len; {
			b := make([]byte, 1)
			if _, err := v.r.ReadAt(b, at); err != nil {
				return nil, err
			}
			if b[0] == 0 {
				at = (at/sector + 1) * sector
				continue
			}
			r, err := v.record(at)
			if err != nil {
				return nil, err
			}
			node := at
			at += int64(len(r))
			name := r[atName : atName+int(r[atNameLen])]
			itself, part := len(name) == 1 && name[0] <= 1, long
			if long = r[atFlags]&goesOn != 0; itself || part {
				continue
			}
			shown, err := v.name(node, name)
			if err != nil {
				return nil, err
			}
			if shown != "" {
				all = append(all, inspect.Entry{Name: shown, Node: uint64(node)})
			}
		}
	}
	return all, nil
}

// name is how a file is called.
func (v *volume) name(node int64, name []byte) (string, error) {
	text := string(name)
	if v.wide {
		var units []uint16
		for i := 0; i+1 < len(name); i += 2 {
			units = append(units, binary.BigEndian.Uint16(name[i:]))
		}
		text = string(utf16.Decode(units))
	}
	more, err := v.more(node)
	if err != nil {
		return "", err
	}
	if more.name != "" {
		return storage.ShownName(strings.ReplaceAll(more.name, "/", "_")), nil
	}
	text, _, _ = strings.Cut(text, ";") // the version
	if !v.wide {
		text = strings.ToLower(strings.TrimSuffix(text, "."))
	}
	return storage.ShownName(strings.ReplaceAll(text, "/", "_")), nil
}
