package bootcode

import "encoding/binary"

// Filler is the first sector of a guest that fills its memory from the first MiB on, so many bytes, with numbers that are all different, says so on its first serial port, and
// waits for ever.
func Filler(bytes uint32) []byte {
	const table, pointer, begin = 0x7c60, 0x7c90, 0x7c20
	first := []byte{
		0xfa, 0x31, 0xc0, 0x8e, 0xd8, // no interrupts; data at 0
		0x0f, 0x01, 0x16, pointer & 0xff, pointer >> 8, // the table of segments
		0x0f, 0x20, 0xc0, 0x0c, 0x01, 0x0f, 0x22, 0xc0, // protected mode
		0xea, begin & 0xff, begin >> 8, 0x08, 0x00,
	}
	second := []byte{
		0x66, 0xb8, 0x10, 0x00, 0x8e, 0xd8, 0x8e, 0xc0, // data everywhere
		0xbf, 0x00, 0x00, 0x10, 0x00, // from the first MiB on
		0xb9, 0, 0, 0, 0, // so many numbers
		0xfc,
		0xab, 0x05, 0xb9, 0x79, 0x37, 0x9e, 0xe2, 0xf8, // one behind the other
		0xba, 0xf8, 0x03, 0x00, 0x00, 0xb0, '.', 0xee, // it says so
		0xf4, 0xeb, 0xfd, // and waits
	}
	binary.LittleEndian.PutUint32(second[14:], bytes/4)
	sector := make([]byte, Length)
	copy(sector, first)
	copy(sector[begin-at:], second)
	copy(sector[table-at+8:], []byte{0xff, 0xff, 0, 0, 0, 0x9a, 0xcf, 0, 0xff, 0xff, 0, 0, 0, 0x92, 0xcf, 0}) // all of it, as code and as data
	copy(sector[pointer-at:], []byte{23, 0, table & 0xff, table >> 8, 0, 0})
	sector[510], sector[511] = 0x55, 0xaa
	return sector
}
