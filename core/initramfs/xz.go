package initramfs

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"

	"bagaglio/core/disk"
)

// Facts of streams of xz ("The .xz file format", version 1.2), and of what LZMA2 has packed: chunks, whose first byte says what they are ("LZMA SDK", lzma2).
const (
	xzFooter  = 12   // bytes (2.1.2)
	xzFlags   = 7    // where the header of a stream says which check follows each block (2.1.1.2)
	xzIndex   = 0    // what begins as a block, and is none (4.1)
	lzmaEnd   = 0x00 // of a block
	lzmaPlain = 0x02 // up to that: not packed
	lzmaBegin = 0x80 // from that on: packed
	lzmaProps = 0xc0 // likewise, with a byte more
)

// xzCheck is the size of the check behind each block, in bytes, by its kind.
func xzCheck(kind byte) int64 {
	return []int64{0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64}[kind&15]
}

// xzStream are the pieces of a stream.
type xzStream struct {
	then    pieces
	check   int64
	packed  int64 // of the block, without its header
	index   int64 // bytes of the index so far
	records uint64
}

func xzPieces() pieces {
	s := &xzStream{}
	s.then = s.header
	return func(r *bufio.Reader) (int64, error) { return s.then(r) }
}

func (s *xzStream) header(r *bufio.Reader) (int64, error) {
	b, err := r.Peek(xzHeader)
	if err != nil {
		return 0, io.ErrUnexpectedEOF
	}
	s.check, s.then = xzCheck(b[xzFlags]), s.block
	return xzHeader, nil
}

func (s *xzStream) block(r *bufio.Reader) (int64, error) {
	b, err := r.Peek(1)
	if err != nil {
		return 0, io.ErrUnexpectedEOF
	}
	if b[0] == xzIndex {
		s.index, s.then = 1, s.count
		return 1, nil
	}
	s.packed, s.then = 0, s.chunk
	return (int64(b[0]) + 1) * 4, nil
}

func (s *xzStream) chunk(r *bufio.Reader) (int64, error) {
	b, err := r.Peek(1)
	if err != nil {
		return 0, io.ErrUnexpectedEOF
	}
	control := b[0]
	if control == lzmaEnd {
		s.packed++
		s.then = s.block
		return 1 + padding(s.packed) + s.check, nil
	}
	if b, err = r.Peek(5); err != nil {
		return 0, io.ErrUnexpectedEOF
	}
	var n int64
	switch {
	case control <= lzmaPlain:
		n = 3 + int64(binary.BigEndian.Uint16(b[1:])) + 1
	case control >= lzmaProps:
		n = 6 + int64(binary.BigEndian.Uint16(b[3:])) + 1
	case control >= lzmaBegin:
		n = 5 + int64(binary.BigEndian.Uint16(b[3:])) + 1
	default:
		return 0, disk.Damaged("a chunk of what is packed begins with %#x", control)
	}
	s.packed += n
	return n, nil
}

// count is how many records the index has, two numbers each.
func (s *xzStream) count(r *bufio.Reader) (int64, error) {
	value, n, err := xzNumber(r)
	s.records, s.index, s.then = 2*value, s.index+n, s.record
	return n, err
}

func (s *xzStream) record(r *bufio.Reader) (int64, error) {
	if s.records > 0 {
		_, n, err := xzNumber(r)
		s.records, s.index = s.records-1, s.index+n
		return n, err
	}
	s.then = func(*bufio.Reader) (int64, error) { return 0, io.EOF }
	return padding(s.index) + 4 + xzFooter, nil
}

// xzNumber is a number (1.2), and its length in bytes.
func xzNumber(r *bufio.Reader) (value uint64, n int64, err error) {
	b, _ := r.Peek(9) // fewer are an error only where it is longer
	value, length := binary.Uvarint(b)
	if length <= 0 {
		return 0, 0, fmt.Errorf("%w: a number of what is packed", io.ErrUnexpectedEOF)
	}
	return value, int64(length), nil
}
