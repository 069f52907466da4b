// Package bootcode has the first sector of a disk from which a small guest starts, for the demo and for tests: it reads of its disk, writes a line
// on its screen and serial port, and switches itself off when its power button is pressed.
package bootcode

import "encoding/binary"

// Length is that of the sector in bytes, and Code of what may come before a partition table.
const (
	Length = 512
	Code   = 440
)

// at is where a BIOS loads the sector.
const at = 0x7c00

// Unit is how much it reads at once, in bytes.
const Unit = 32 << 10

// Sector is the one of a guest that reads so many units of its disk, shows a text of up to 300 letters, and may listen to its power button.
func Sector(text string, reads uint16, listens bool) []byte {
	code := []byte{
		0xb8, 0x03, 0x00, 0xcd, 0x10, // text mode, a clear screen (INT 10h, 00h)
		0xb4, 0x01, 0xb9, 0x07, 0x26, 0xcd, 0x10, // no cursor, which would blink (INT 10h, 01h)
		0xb9, byte(reads), byte(reads >> 8), 0xe3, 0x0b, // as often as asked for
		0x51, 0xbe, 0, 0, 0xb4, 0x42, 0xcd, 0x13, 0x59, 0xe2, 0xf5, // what the packet says is read (INT 13h, 42h)
		0xbe, 0, 0, // the text
		0xac, 0x84, 0xc0, 0x74, 0x0a, // its next letter, until the end
		0xb4, 0x0e, 0xcd, 0x10, // to the screen (INT 10h, 0Eh)
		0xba, 0xf8, 0x03, 0xee, 0xeb, 0xf1, // and to the first serial port
	}
	const packetAt, textAt = 19, 29 // where the addresses of both are
	if listens {
		code = append(code,
			0xe4, 0xa1, 0x0c, 0x02, 0xe6, 0xa1, // its interrupt, 9, does not
			0xba, 0x02, 0x06, 0xb8, 0x00, 0x01, 0xef, // the power button counts (ACPI, 4.8.3.1.2)
			0xfb, 0xf4, // wait
			0xba, 0x00, 0x06, 0xed, 0xf6, 0xc4, 0x01, 0x74, 0xf5, // until it is pressed (4.8.3.1.1)
			0xba, 0x04, 0x06, 0xb8, 0x00, 0x20, 0xef, 0xeb, 0xec, // off (4.8.3.2.1)
		)
	} else {
		code = append(code, 0xf4, 0xeb, 0xfd) // halt, for ever
	}
	binary.LittleEndian.PutUint16(code[packetAt:], uint16(at+len(code)))
	code = append(code, 0x10, 0, byte(Unit/Length), 0, 0, 0, 0x00, 0x10, 0, 0, 0, 0, 0, 0, 0, 0) // from its first sector, to 1000h:0
	binary.LittleEndian.PutUint16(code[textAt:], uint16(at+len(code)))
	sector := make([]byte, Length)
	copy(sector[:Code], append(append(code, text...), 0))
	sector[510], sector[511] = 0x55, 0xaa
	return sector
}
