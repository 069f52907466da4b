package exfat

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

// Facts of entries of folders (6 and 7).
const (
	typeBitmap = 0x81
	typeLabel  = 0x83
	typeFile   = 0x85
	typeStream = 0xc0
	typeName   = 0xc1

	atCount              = 1 // of entries that belong to a file; of letters of a label
	atAttributes         = 4
	atModified, atTenth  = 12, 21
	atOffset             = 23 // of its zone, in quarters of an hour
	isReadOnly, isFolder = 0x01, 0x10

	atFlagsOf         = 1 // of a stream
	withoutChain      = 2
	atNameLen         = 3
	atValid           = 8
	atCluster, atSize = 20, 24

	nameUnits  = 15 // letters of a name in an entry
	labelUnits = 11
	maxFolder  = 256 << 20 // bytes (7.4.9)
	atLetters  = 2
)

// Root is the folder at the top. Any other node is where the stream entry of a file lies.
func (v *volume) Root() uint64 { return 0 }

// readRoot finds what describes the filesystem in its root folder.
func (v *volume) readRoot() error {
	return v.entries(0, func(e []byte, _ int64) error {
		switch e[0] {
		case typeBitmap:
			if second := e[atCount]&1 != 0; second != (v.flags&activeSecond != 0) {
				return nil
			}
			size := int64(min(le.Uint64(e[atSize:]), uint64(v.clusters/8+1)))
			pieces, err := v.chain(int64(le.Uint32(e[atCluster:])), size)
			v.bitmap = pieces
			return err
		case typeLabel:
			v.label = text(e[atLetters:], min(int(e[atCount]), labelUnits))
		}
		return nil
	})
}

func text(b []byte, n int) string {
	var units []uint16
	for i := range n {
		units = append(units, le.Uint16(b[2*i:]))
	}
	if i := slices.Index(units, 0); i >= 0 {
		units = units[:i]
	}
	return string(utf16.Decode(units))
}

// entries calls each with the entries of a folder, and where they lie.
func (v *volume) entries(folder uint64, each func(e []byte, at int64) error) error {
	pieces, err := v.Pieces(folder)
	if err != nil {
		return err
	}
	var read int64
	for _, p := range pieces {
		if read += p.Len; read > maxFolder {
			return disk.Damaged("a folder of more than %d bytes", maxFolder)
		}
		b := make([]byte, p.Len)
		if _, err := v.r.ReadAt(b, p.At); err != nil {
			return err
		}
		for at := int64(0); at+entrySize <= p.Len; at += entrySize {
			e := b[at : at+entrySize]
			if e[0] == 0 {
				return nil
			}
			if err := each(e, p.At+at); err != nil {
				return err
			}
		}
	}
	return nil
}

// List reads a folder.
func (v *volume) List(folder uint64) (all []inspect.Entry, err error) {
	var file, stream int64
	var name []uint16
	left, letters := 0, 0
	err = v.entries(folder, func(e []byte, at int64) error {
		switch {
		case e[0] == typeFile:
			file, stream, name, left = at, 0, nil, int(e[atCount])
			return nil
		case left == 0:
			return nil
		case e[0] == typeStream && stream == 0:
			stream, letters = at, int(e[atNameLen])
		case e[0] == typeName && stream != 0 && len(name) < letters:
			for i := range min(nameUnits, letters-len(name)) {
				name = append(name, le.Uint16(e[atLetters+2*i:]))
			}
		}
		if left--; left > 0 || stream == 0 || len(name) == 0 {
			return nil
		}
		if stream != file+entrySize {
			v.mu.Lock()
			v.apart[uint64(stream)] = file
			v.mu.Unlock()
		}
		shown := storage.ShownName(strings.ReplaceAll(string(utf16.Decode(name)), "/", "_"))
		all = append(all, inspect.Entry{Name: shown, Node: uint64(stream)})
		return nil
	})
	return all, err
}

// both are the entries of a file: what it is, and its stream.
func (v *volume) both(node uint64) (file, stream []byte, err error) {
	at := int64(node)
	if at < v.heap+entrySize || at > v.total-entrySize {
		return nil, nil, disk.Damaged("an entry at %d", at)
	}
	v.mu.Lock()
	before, apart := v.apart[node]
	v.mu.Unlock()
	if !apart {
		before = at - entrySize
	}
	file, stream = make([]byte, entrySize), make([]byte, entrySize)
	if _, err = v.r.ReadAt(file, before); err == nil {
		_, err = v.r.ReadAt(stream, at)
	}
	if err == nil && (file[0] != typeFile || stream[0] != typeStream) {
		err = disk.Damaged("an entry at %d that is none of a file", at)
	}
	return file, stream, err
}

// Stat says what an entry is.
func (v *volume) Stat(node uint64) (inspect.Info, error) {
	if node == 0 {
		return inspect.Info{Mode: fs.ModeDir | 0o755}, nil
	}
	file, stream, err := v.both(node)
	if err != nil {
		return inspect.Info{}, err
	}
	size := le.Uint64(stream[atSize:])
	if size > 1<<62 {
		return inspect.Info{}, disk.Damaged("a file of %d bytes", size)
	}
	i := inspect.Info{Mode: 0o644, Size: int64(size), Modified: when(file)}
	attributes := le.Uint16(file[atAttributes:])
	if attributes&isReadOnly != 0 {
		i.Mode = 0o444
	}
	if attributes&isFolder != 0 {
		i.Mode, i.Size = fs.ModeDir|i.Mode|0o111, 0
	}
	return i, nil
}

// when is the time of the last change (7.4.8), in the zone that it names, or in one that nobody knows.
func when(file []byte) time.Time {
	stamp, zone := le.Uint32(file[atModified:]), time.UTC
	if o := file[atOffset]; o&0x80 != 0 {
		zone = time.FixedZone("", int(int8(o<<1)>>1)*15*60)
	}
	date, clock := stamp>>16, stamp&0xffff
	tenths := time.Duration(file[atTenth]) * 10 * time.Millisecond
	return time.Date(1980+int(date>>9), time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0, zone).
		Add(tenths)
}

// Pieces returns where a file or folder lies. What of a file was never written is in no piece.
func (v *volume) Pieces(node uint64) ([]inspect.Piece, error) {
	if node == 0 {
		return v.chain(v.root, -1)
	}
	file, stream, err := v.both(node)
	if err != nil {
		return nil, err
	}
	size := le.Uint64(stream[atSize:])
	if le.Uint16(file[atAttributes:])&isFolder == 0 {
		size = min(size, le.Uint64(stream[atValid:]))
	}
	if size > uint64(v.clusters*v.cluster) {
		return nil, disk.Damaged("a file of %d bytes", size)
	}
	first := int64(le.Uint32(stream[atCluster:]))
	if stream[atFlagsOf]&withoutChain != 0 {
		return v.together(first, int64(size))
	}
	return v.chain(first, int64(size))
}
