package bootcode

import "encoding/binary"

// What a writer writes: blocks of so many sectors, one behind the other from a sector on, so many until it begins anew.
const (
	WriterSectors, WriterStride = 127, 128
	WriterFrom                  = 2048
	WriterBlocks                = 512
)

// Writer is the first sector of a guest that writes to its disk all the time, as fast as that goes: blocks of 127 sectors, each with its number in front (INT 13h, 43h).
func Writer() []byte {
	const packet, number, segment = 0x7c80, 0x8000, 0x1000
	code := []byte{
		0x31, 0xc0, 0x8e, 0xd8, // data at 0
		0xb8, segment & 0xff, segment >> 8, 0x8e, 0xc0, // what is written is in a segment of its own
	}
	loop := len(code)
	code = append(code,
		0x66, 0xff, 0x06, number&0xff, number>>8, // the next number
		0x66, 0xa1, number&0xff, number>>8, 0x66, 0x26, 0xa3, 0, 0, // in front of what is written
		0x66, 0x25, (WriterBlocks-1)&0xff, (WriterBlocks-1)>>8, 0, 0, // which block
		0x66, 0xc1, 0xe0, 0x07, // at its sector
		0x66, 0x05, WriterFrom&0xff, WriterFrom>>8, 0, 0,
		0x66, 0xa3, (packet+8)&0xff, (packet+8)>>8,
		0xbe, packet&0xff, packet>>8, 0xb8, 0x00, 0x43, 0xb2, 0x80, 0xcd, 0x13, // written
	)
	code = append(code, 0xeb, byte(loop-len(code)-2)) // again
	sector := make([]byte, Length)
	copy(sector, code)
	copy(sector[packet-at:], []byte{16, 0, WriterSectors, 0, 0, 0, segment & 0xff, segment >> 8})
	sector[510], sector[511] = 0x55, 0xaa
	return sector
}

// WriterLast is the last number that such a disk has, by what lies at offsets of it; ok tells that all before it are there, too, and none behind it.
func WriterLast(readAt func(p []byte, off int64) error) (last uint32, ok bool, err error) {
	var numbers [WriterBlocks]uint32
	for k := range numbers {
		var b [4]byte
		if err := readAt(b[:], int64(WriterFrom+k*WriterStride)*Length); err != nil {
			return 0, false, err
		}
		numbers[k] = binary.LittleEndian.Uint32(b[:])
		last = max(last, numbers[k])
	}
	for n := last; n > 0 && last-n < WriterBlocks; n-- {
		if numbers[n%WriterBlocks] != n {
			return last, false, nil
		}
	}
	return last, true, nil
}
