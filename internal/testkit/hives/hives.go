// Package hives makes files of the registry of Windows, for tests.
package hives

import (
	"encoding/binary"
	"slices"
	"strings"
	"unicode/utf16"
)

// Key is a key of the registry that is made.
type Key struct {
	Name   string
	Values map[string]any // uint32 or string
	Keys   []Key
	// Each is how many keys are in each of several lists, 0 for one list of all.
	Each int
}

// Make makes a file with the key as the first one.
func Make(root Key) []byte {
	m := &maker{cells: make([]byte, 32)} // the header of the cells
	first := m.key(root)
	m.cells = append(m.cells, make([]byte, 4096-len(m.cells)%4096)...)
	copy(m.cells, "hbin")
	binary.LittleEndian.PutUint32(m.cells[8:], uint32(len(m.cells)))
	b := make([]byte, 4096, 4096+len(m.cells))
	copy(b, "regf")
	for at, n := range map[int]uint32{4: 1, 8: 1, 20: 1, 24: 5, 32: 1, 36: first, 40: uint32(len(m.cells)), 44: 1} {
		binary.LittleEndian.PutUint32(b[at:], n)
	}
	Sum(b)
	return append(b, m.cells...)
}

// Sum writes the checksum of the first block.
func Sum(b []byte) {
	var sum uint32
	for i := 0; i < 508; i += 4 {
		sum ^= binary.LittleEndian.Uint32(b[i:])
	}
	binary.LittleEndian.PutUint32(b[508:], sum)
}

type maker struct{ cells []byte }

// cell adds one, and returns where it is.
func (m *maker) cell(content []byte) uint32 {
	at := len(m.cells)
	n := (4 + len(content) + 7) / 8 * 8
	m.cells = append(m.cells, make([]byte, n)...)
	binary.LittleEndian.PutUint32(m.cells[at:], uint32(-n))
	copy(m.cells[at+4:], content)
	return uint32(at)
}

func wide(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

// named is a name as it is written: a byte a character where that is enough for it.
func named(name string) (b []byte, latin bool) {
	if strings.IndexFunc(name, func(r rune) bool { return r > 127 }) < 0 {
		return []byte(name), true
	}
	return wide(name), false
}

func (m *maker) list(kind string, entries []uint32) uint32 {
	b := binary.LittleEndian.AppendUint16([]byte(kind), uint16(len(entries)))
	for _, e := range entries {
		b = binary.LittleEndian.AppendUint32(b, e)
		if kind[0] == 'l' && kind != "li" {
			b = append(b, 0, 0, 0, 0) // a hash, for whoever looks for one name
		}
	}
	return m.cell(b)
}

func (m *maker) key(k Key) uint32 {
	var keys, values []uint32
	for _, sub := range k.Keys {
		keys = append(keys, m.key(sub))
	}
	for name, v := range k.Values {
		values = append(values, m.value(name, v))
	}
	name, latin := named(k.Name)
	b := append(make([]byte, 76), name...)
	copy(b, "nk")
	if latin {
		b[2] = 0x20
	}
	binary.LittleEndian.PutUint16(b[72:], uint16(len(name)))
	for at, n := range map[int]uint32{
		16: ^uint32(0), 20: uint32(len(keys)), 28: ^uint32(0), 32: ^uint32(0), 36: uint32(len(values)), 40: ^uint32(0), 44: ^uint32(0), 48: ^uint32(0),
	} {
		binary.LittleEndian.PutUint32(b[at:], n)
	}
	switch {
	case len(keys) > 0 && k.Each > 0:
		var lists []uint32
		for part := range slices.Chunk(keys, k.Each) {
			lists = append(lists, m.list([]string{"lh", "li"}[len(lists)%2], part))
		}
		binary.LittleEndian.PutUint32(b[28:], m.list("ri", lists))
	case len(keys) > 0:
		binary.LittleEndian.PutUint32(b[28:], m.list("lf", keys))
	}
	if len(values) > 0 {
		var list []byte
		for _, v := range values {
			list = binary.LittleEndian.AppendUint32(list, v)
		}
		binary.LittleEndian.PutUint32(b[40:], m.cell(list))
	}
	return m.cell(b)
}

func (m *maker) value(of string, v any) uint32 {
	name, latin := named(of)
	b := append(make([]byte, 20), name...)
	copy(b, "vk")
	binary.LittleEndian.PutUint16(b[2:], uint16(len(name)))
	switch v := v.(type) {
	case uint32:
		binary.LittleEndian.PutUint32(b[4:], 4|1<<31)
		binary.LittleEndian.PutUint32(b[8:], v)
		b[12] = 4
	case string:
		text := append(wide(v), 0, 0)
		binary.LittleEndian.PutUint32(b[4:], uint32(len(text)))
		binary.LittleEndian.PutUint32(b[8:], m.cell(text))
		b[12] = 1
	}
	if latin {
		b[16] = 1
	}
	return m.cell(b)
}
