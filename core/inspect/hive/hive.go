// Package hive reads the registry of Windows as it lies in files: keys, and the values that are numbers or text; numbers are given other values where they lie. What a log beside
// the file has is not looked at.
package hive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf16"

	"bagaglio/core/disk"

	"golang.org/x/text/encoding/charmap"
)

// Facts of the format ("Windows registry file format specification", M. Suhanov, the sections behind each; its files are called hives). All numbers are
// little-endian.
const (
	baseBlock  = 4096 // length of the base block; offsets count from its end (Base block)
	atSequence = 4    // number of the last write that was begun, and behind it of the last that was ended
	atMajor    = 20
	atRoot     = 36 // offset of the first key
	atBins     = 40 // length of all cells
	atChecksum = 508

	cellHeader = 4 // the length of a cell, negative for one that is used (Hive bin)

	keyHeader   = 76 // of a key, before its name (Key node)
	atFlags     = 2
	atKeys      = 20 // number of its keys
	atKeyList   = 28
	atValues    = 36 // number of its values
	atValueList = 40
	atKeyName   = 72 // length of its name
	latinKey    = 0x20

	valueHeader = 20 // of a value, before its name (Key value)
	atValueName = 2
	atDataSize  = 4
	atData      = 8
	atDataType  = 12
	atValueFlag = 16
	latinValue  = 0x01
	within      = 1 << 31 // of the size: the data are where their offset would be
	typeText    = 1       // REG_SZ
	typeExpand  = 2       // REG_EXPAND_SZ
	typeNumber  = 4       // REG_DWORD
)

// Bounds of what is read.
const (
	maxKeys   = 1 << 14 // in a key
	maxValues = 1 << 12
	maxName   = 512   // bytes of a name
	maxData   = 16344 // longer ones are in pieces (Big data)
)

// Hive is an opened file of the registry.
type Hive struct {
	cells io.ReaderAt
	size  int64
	root  uint32
	// Unfinished tells that the last write to the file did not end: part of it may be in a log beside it.
	Unfinished bool
}

// Open opens the file. It fails with disk.ErrDamaged where it is none.
func Open(r io.ReaderAt, size int64) (*Hive, error) {
	b := make([]byte, atChecksum+4)
	if size < baseBlock {
		return nil, disk.Damaged("a registry file of %d bytes", size)
	}
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, err
	}
	if string(b[:4]) != "regf" || binary.LittleEndian.Uint32(b[atMajor:]) != 1 {
		return nil, disk.Damaged("no file of the registry")
	}
	if sumOf(b) != binary.LittleEndian.Uint32(b[atChecksum:]) {
		return nil, disk.Damaged("the base block of a registry file does not fit its checksum")
	}
	length := min(int64(binary.LittleEndian.Uint32(b[atBins:])), size-baseBlock)
	return &Hive{
		cells:      disk.NewPages(io.NewSectionReader(r, baseBlock, length), length),
		size:       length,
		root:       binary.LittleEndian.Uint32(b[atRoot:]),
		Unfinished: binary.LittleEndian.Uint32(b[atSequence:]) != binary.LittleEndian.Uint32(b[atSequence+4:]),
	}, nil
}

// sumOf is the checksum of a base block.
func sumOf(b []byte) (sum uint32) {
	for i := 0; i < atChecksum; i += 4 {
		sum ^= binary.LittleEndian.Uint32(b[i:])
	}
	switch sum { // two values are never used
	case 0:
		return 1
	case 0xffffffff:
		return sum - 1
	}
	return sum
}

// cell reads the cell at an offset, as much of it as there is up to most bytes, and at least so many.
func (h *Hive) cell(off uint32, least, most int) ([]byte, error) {
	head := make([]byte, cellHeader)
	if int64(off)+cellHeader > h.size {
		return nil, disk.Damaged("a cell of the registry behind its end")
	}
	if _, err := h.cells.ReadAt(head, int64(off)); err != nil {
		return nil, err
	}
	n := -int64(int32(binary.LittleEndian.Uint32(head))) - cellHeader
	if n < int64(least) || int64(off)+cellHeader+n > h.size {
		return nil, disk.Damaged("a cell of the registry with %d bytes, of %d", n, least)
	}
	b := make([]byte, min(n, int64(most)))
	_, err := h.cells.ReadAt(b, int64(off)+cellHeader)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return b, err
}

// Key is one of the registry.
type Key struct {
	hive *Hive
	node []byte // with its name
}

func (h *Hive) key(off uint32) (Key, error) {
	b, err := h.cell(off, keyHeader, keyHeader+maxName)
	if err == nil && string(b[:2]) != "nk" {
		err = disk.Damaged("a key of the registry that is none (%x)", b[:2])
	}
	return Key{h, b}, err
}

// Name is the name of the key.
func (k Key) Name() string {
	return name(k.node[keyHeader:], binary.LittleEndian.Uint16(k.node[atKeyName:]), binary.LittleEndian.Uint16(k.node[atFlags:])&latinKey != 0)
}

func name(b []byte, length uint16, latin bool) string {
	b = b[:min(int(length), len(b))]
	if !latin {
		return wide(b)
	}
	s, err := charmap.ISO8859_1.NewDecoder().Bytes(b)
	if err != nil {
		return ""
	}
	return string(s)
}

// wide is text of two bytes a character, up to its end.
func wide(b []byte) string {
	units := make([]uint16, 0, len(b)/2)
	for ; len(b) > 1 && b[0]|b[1] != 0; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}

// Key finds a key by its path from the first one, as Key.Key does.
func (h *Hive) Key(path string) (Key, error) {
	root, err := h.key(h.root)
	if err != nil {
		return root, fmt.Errorf("the first key of the registry: %w", err)
	}
	return root.Key(path)
}

// Key finds a key by its path, names with backslashes in between; letters are the same in both cases. It fails with fs.ErrNotExist where there is none.
func (k Key) Key(path string) (Key, error) {
	for part := range strings.SplitSeq(path, `\`) {
		all, err := k.Keys()
		if err != nil {
			return k, fmt.Errorf("%s of the registry: %w", path, err)
		}
		i := slices.IndexFunc(all, func(k Key) bool { return strings.EqualFold(k.Name(), part) })
		if i < 0 {
			return k, fmt.Errorf("%s of the registry: %w", path, fs.ErrNotExist)
		}
		k = all[i]
	}
	return k, nil
}

// Keys are the keys in it.
func (k Key) Keys() ([]Key, error) {
	n := binary.LittleEndian.Uint32(k.node[atKeys:])
	if n == 0 {
		return nil, nil
	}
	if n > maxKeys {
		return nil, disk.Damaged("a key of the registry with %d keys", n)
	}
	var all []Key
	var read func(off uint32, within bool) error
	read = func(off uint32, within bool) error {
		list, err := k.hive.cell(off, 4, 4+8*maxKeys)
		if err != nil {
			return err
		}
		kind, count := string(list[:2]), int(binary.LittleEndian.Uint16(list[2:]))
		stride := map[string]int{"lf": 8, "lh": 8, "li": 4, "ri": 4}[kind] // the former have a hash of each name, the last is a list of lists
		if stride == 0 || 4+stride*count > len(list) || kind == "ri" && within {
			return disk.Damaged("a list of %d keys in the registry (%x)", count, kind)
		}
		for i := range count {
			at := binary.LittleEndian.Uint32(list[4+stride*i:])
			if kind == "ri" {
				if err := read(at, true); err != nil {
					return err
				}
				continue
			}
			one, err := k.hive.key(at)
			if err != nil {
				return err
			}
			if all = append(all, one); len(all) > int(n) {
				return disk.Damaged("a key of the registry with more keys than it has (%d)", n)
			}
		}
		return nil
	}
	err := read(binary.LittleEndian.Uint32(k.node[atKeyList:]), false)
	return all, err
}

// value is what a name stands for.
type value struct {
	kind uint32
	data []byte
	at   int64 // where the data lie in the file
}

// value finds one.
func (k Key) value(want string) (v value, err error) {
	n := binary.LittleEndian.Uint32(k.node[atValues:])
	if n == 0 {
		return v, fs.ErrNotExist
	}
	if n > maxValues {
		return v, disk.Damaged("a key of the registry with %d values", n)
	}
	list, err := k.hive.cell(binary.LittleEndian.Uint32(k.node[atValueList:]), 4*int(n), 4*int(n))
	for ; err == nil && len(list) > 0; list = list[4:] {
		var b []byte
		if b, err = k.hive.cell(binary.LittleEndian.Uint32(list), valueHeader, valueHeader+maxName); err != nil {
			break
		}
		if string(b[:2]) != "vk" {
			return v, disk.Damaged("a value of the registry that is none (%x)", b[:2])
		}
		latin := binary.LittleEndian.Uint16(b[atValueFlag:])&latinValue != 0
		if !strings.EqualFold(name(b[valueHeader:], binary.LittleEndian.Uint16(b[atValueName:]), latin), want) {
			continue
		}
		size := binary.LittleEndian.Uint32(b[atDataSize:])
		v.kind = binary.LittleEndian.Uint32(b[atDataType:])
		switch {
		case size&within != 0:
			v.data, v.at = b[atData:atData+min(4, size&^within)], inFile(binary.LittleEndian.Uint32(list))+atData
			return v, nil
		case size > maxData:
			return v, disk.Unsupported("a value of the registry with %d bytes", size)
		}
		off := binary.LittleEndian.Uint32(b[atData:])
		v.at = inFile(off)
		v.data, err = k.hive.cell(off, int(size), int(size))
		return v, err
	}
	if err == nil {
		err = fs.ErrNotExist
	}
	return v, err
}

// inFile is where the content of a cell begins in the file.
func inFile(off uint32) int64 { return baseBlock + int64(off) + cellHeader }

// Number returns a value that is a number of 32 bits. It fails with fs.ErrNotExist where there is none, or where it is something else.
func (k Key) Number(name string) (uint32, error) {
	v, err := k.value(name)
	switch {
	case err != nil:
		return 0, fmt.Errorf("%s of %s in the registry: %w", name, k.Name(), err)
	case v.kind != typeNumber || len(v.data) != 4:
		return 0, fmt.Errorf("%s of %s in the registry is no number: %w", name, k.Name(), fs.ErrNotExist)
	}
	return binary.LittleEndian.Uint32(v.data), nil
}

// Text returns a value that is text, likewise.
func (k Key) Text(name string) (string, error) {
	v, err := k.value(name)
	switch {
	case err != nil:
		return "", fmt.Errorf("%s of %s in the registry: %w", name, k.Name(), err)
	case v.kind != typeText && v.kind != typeExpand:
		return "", fmt.Errorf("%s of %s in the registry is no text: %w", name, k.Name(), fs.ErrNotExist)
	}
	return wide(v.data), nil
}
