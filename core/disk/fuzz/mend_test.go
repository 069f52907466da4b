package fuzz

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
)

// mendable is an image whose checksums can be set right.
type mendable interface {
	io.ReaderAt
	io.WriterAt
	Size() (int64, error)
}

// window is a part of an image, nil where the image ends before it.
func window(image mendable, at, length int64) []byte {
	size, err := image.Size()
	if err != nil || at < 0 || at+length > size {
		return nil
	}
	b := make([]byte, length)
	if _, err := image.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
		return nil
	}
	return b
}

func mendVHD(image mendable) {
	n, _ := image.Size() // never fails in memory
	for _, part := range []struct{ at, len, field int64 }{{0, 512, 64}, {512, 1024, 36}, {n - 512, 512, 64}} {
		b := window(image, part.at, part.len)
		if b == nil {
			continue
		}
		clear(b[part.field:][:4])
		var sum uint32
		for _, c := range b {
			sum += uint32(c)
		}
		_, _ = image.WriteAt(binary.BigEndian.AppendUint32(nil, ^sum), part.at+part.field) // likewise
	}
}

func mendVHDX(image mendable) {
	table := crc32.MakeTable(crc32.Castagnoli)
	for _, part := range []struct{ at, len int64 }{{64 << 10, 4 << 10}, {128 << 10, 4 << 10}, {192 << 10, 64 << 10}, {256 << 10, 64 << 10}} {
		b := window(image, part.at, part.len)
		if b == nil {
			continue
		}
		clear(b[4:8])
		_, _ = image.WriteAt(binary.LittleEndian.AppendUint32(nil, crc32.Checksum(b, table)), part.at+4) // likewise
	}
}
