package initramfs

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
)

// Frames of zstd (RFC 8878, 3.1.1) and of the form of lz4 that the kernel takes (its documentation, "Legacy frame"). Who unpacks them reads on behind their end; what follows is
// the next archive.
const (
	zstdMagic    = "\x28\xb5\x2f\xfd"
	zstdBlock    = 3    // bytes of a block's header
	zstdSingle   = 0x20 // flags of the frame
	zstdChecksum = 0x04
	zstdRLE      = 1

	lz4Magic   = "\x02\x21\x4c\x18"
	lz4Largest = 16 << 20 // bytes of a block, packed: unpacked it has 8 MiB
)

// frame reads the pieces of one, and nothing behind it.
type frame struct {
	from *bufio.Reader
	next pieces
	left int64
	err  error
}

// pieces tells how long the next piece of a frame is, in bytes; io.EOF behind the last one.
type pieces func(r *bufio.Reader) (int64, error)

func (f *frame) Read(p []byte) (int, error) {
	for f.left == 0 && f.err == nil {
		f.left, f.err = f.next(f.from)
	}
	if f.left == 0 {
		return 0, f.err
	}
	n, err := f.from.Read(p[:min(int64(len(p)), f.left)])
	if f.left -= int64(n); errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// zstdPieces are the header of a frame, its blocks, and its checksum.
func zstdPieces() pieces {
	begun, last, sum := false, false, int64(0)
	return func(r *bufio.Reader) (int64, error) {
		switch {
		case !begun:
			begun = true
			b, err := r.Peek(len(zstdMagic) + 1)
			if err != nil {
				return 0, io.ErrUnexpectedEOF
			}
			flags := b[len(zstdMagic)]
			if flags&zstdChecksum != 0 {
				sum = 4
			}
			n := int64(len(zstdMagic)) + 1 + []int64{0, 1, 2, 4}[flags&3] + []int64{0, 2, 4, 8}[flags>>6]
			if flags&zstdSingle == 0 || flags>>6 == 0 { // a window, or a size of one byte
				n++
			}
			return n, nil
		case last:
			n := sum
			if sum = 0; n == 0 {
				return 0, io.EOF
			}
			return n, nil
		}
		b, err := r.Peek(zstdBlock)
		if err != nil {
			return 0, io.ErrUnexpectedEOF
		}
		head := int64(b[0]) | int64(b[1])<<8 | int64(b[2])<<16
		last = head&1 != 0
		n := head >> 3
		if head>>1&3 == zstdRLE {
			n = 1
		}
		return zstdBlock + n, nil
	}
}

// lz4Pieces are the mark, and blocks behind their lengths. What cannot be a length ends it: it has no end of its own.
func lz4Pieces() pieces {
	begun := false
	return func(r *bufio.Reader) (int64, error) {
		if !begun {
			begun = true
			return int64(len(lz4Magic)), nil
		}
		b, err := r.Peek(4)
		if err != nil {
			return 0, io.EOF
		}
		n := int64(binary.LittleEndian.Uint32(b))
		switch {
		case string(b) == lz4Magic:
			return 4, nil
		case n == 0 || n > lz4Largest:
			return 0, io.EOF
		}
		return 4 + n, nil
	}
}
