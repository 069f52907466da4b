package daemon

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

// counts are how many sectors a guest that counts writes to, from which on.
const counts, countsFrom = 256, 256

// startsAt is by how many bits the time is shifted that a guest begins to count at: what it counts from there on is less than what is counted in a tick of the clock (55 ms).
const startsAt = 11

// Counts is a disk of so many bytes from which a guest starts that counts for ever, 64 numbers at each tick of its clock, and writes each into one of 256 sectors, one behind the
// other (INT 13h, 43h). It ends when its power button is pressed.
func Counts(size int) []byte {
	const at, packet, number, first = 0x7c00, 0x7c80, 0x8000, countsFrom
	code := []byte{
		0x31,
		0xc0,
		0x8e,
		0xd8,
		0x8e,
		0xc0, // segments are 0
		0xba,
		0x02,
		0x06,
		0xb8,
		0x00,
		0x01,
		0xef, // the power button counts (ACPI, 4.8.3.1.2)
		0xb4,
		0x00,
		0xcd,
		0x1a,
		0x66,
		0xc1,
		0xe1,
		0x10,
		0x89,
		0xd1, // what time it is (INT 1Ah, 00h)
		0x66,
		0xc1,
		0xe1,
		startsAt,
		0x66,
		0x89,
		0x0e,
		number & 0xff,
		number >> 8, // is where it begins: behind all that it counted before it was started anew
	}
	loop := len(code)
	code = append(
		code,
		0xba,
		0x00,
		0x06,
		0xed,
		0xf6,
		0xc4,
		0x01,
		0x74,
		0x07, // unless it is pressed (4.8.3.1.1)
		0xba,
		0x04,
		0x06,
		0xb8,
		0x00,
		0x20,
		0xef, // off (4.8.3.2.1)
		0x66,
		0xff,
		0x06,
		number&0xff,
		number>>8, // the next number
		0xa0,
		number&0xff,
		number>>8,
		0xa2,
		(packet+8)&0xff,
		(packet+8)>>8, // its low byte is that of the sector
		0xbe,
		packet&0xff,
		packet>>8,
		0xb8,
		0x00,
		0x43,
		0xb2,
		0x80,
		0xcd,
		0x13, // written
		0xf6,
		0x06,
		number&0xff,
		number>>8,
		0x3f,
		0x75,
		0x02,
		0xfb,
		0xf4, // 64 of them, and then it waits for the next tick, since others compute here too
	)
	code = append(code, 0xeb, byte(loop-len(code)-2)) // again
	disk := make([]byte, size)
	copy(disk, code)
	copy(disk[packet-at:], []byte{16, 0, 1, 0, number & 0xff, number >> 8, 0, 0, 0, first >> 8, 0, 0, 0, 0, 0, 0})
	disk[510], disk[511] = 0x55, 0xaa
	return disk
}

// Counted is the last number that such a disk has. It fails where one is missing that was written before it, or there that was written behind it.
func Counted(t testing.TB, content []byte) uint32 {
	t.Helper()
	last := uint32(0)
	number := func(k uint32) uint32 { return binary.LittleEndian.Uint32(content[(countsFrom+k)*512:]) }
	for k := range uint32(counts) {
		last = max(last, number(k))
	}
	for n := last; n%(1<<startsAt) != 0 && last-n < counts; n-- { // where it may have begun
		require.Equal(t, n, number(n%counts), "of %d", last)
	}
	return last
}
