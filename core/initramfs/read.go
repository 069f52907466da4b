// Package initramfs reads and writes initial memory disks of Linux: archives of cpio, one behind the other, each packed or not (the kernel's documentation, "initramfs buffer
// format"). What comes later takes the place of what came before.
package initramfs

import (
	"bufio"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"
)

// Facts of archives (the same document, and cpio(5), "New ASCII Format").
const (
	header     = 110 // bytes, of fields in hexadecimal
	magic      = 6
	field      = 8
	atMode     = magic + 1*field
	atFileSize = magic + 6*field
	atNameSize = magic + 11*field
	lastName   = "TRAILER!!!"
	plain      = "070701"
	summed     = "070702"

	// xzMagic begins what is packed in that way ("The .xz file format", 2.1.1.1), and the header of its first block (3.1) follows its own header (2.1.1).
	xzMagic    = "\xfd7zXZ\x00"
	xzHeader   = 12
	xzPacked   = 0x40 // flags: which lengths the header of a block has
	xzUnpacked = 0x80
	xzLZMA2    = 0x21 // the filter (5.3.1)

	maxMemory     = 512 << 20 // unpacked, in bytes
	maxDictionary = 128 << 20 // of what is unpacked
	maxInMemory   = 1 << 20   // files
	longestOne    = 4096      // of a name
)

// Entry is a file, folder or link in an archive.
type Entry struct {
	Name string // as fs.ValidPath has it
	Mode uint32 // type and permissions (stat(2))
	Size int64  // of its content, in bytes
}

// Types of entries (inode(7)).
const (
	typeMask = 0o170000
	isDir    = 0o040000
	isLink   = 0o120000
	isFile   = 0o100000
)

// IsDir tells whether it is a folder, and IsLink whether a link, whose content is where it leads.
func (e Entry) IsDir() bool { return e.Mode&typeMask == isDir }

// IsLink is described at IsDir.
func (e Entry) IsLink() bool { return e.Mode&typeMask == isLink }

// Each gets an entry, and its content, of which it reads what it wants.
type Each func(e Entry, content io.Reader) error

// Walk calls each with what is in an initial memory disk, in its order. It fails with disk.ErrDamaged for what makes no sense, and with disk.ErrUnsupported for what is packed in
// another way than those that the kernel unpacks; what each returns is returned.
func Walk(ctx context.Context, from io.Reader, each Each) error {
	r := bufio.NewReaderSize(from, 1<<20)
	for {
		begin, err := next(r)
		if begin == nil || err != nil {
			return err
		}
		if isArchive(begin) {
			err = archive(ctx, r, each)
		} else {
			err = packed(ctx, r, begin, each)
		}
		if err != nil {
			return err
		}
	}
}

// next skips what lies between two archives, and returns how the next one begins, nil where there is none.
func next(r *bufio.Reader) ([]byte, error) {
	for {
		b, err := r.Peek(magic)
		switch {
		case err != nil && !errors.Is(err, io.EOF):
			return nil, fmt.Errorf("%w: unpacking it: %w", disk.ErrDamaged, err)
		case len(b) > 0 && b[0] == 0:
			if _, err := r.Discard(1); err != nil {
				return nil, err
			}
		case len(b) < magic:
			return nil, nil // what is left at the end is none
		default:
			return b, nil
		}
	}
}

func isArchive(b []byte) bool { return string(b) == plain || string(b) == summed }

// packed reads what is packed together: archives, one behind the other.
func packed(ctx context.Context, r *bufio.Reader, begin []byte, each Each) error {
	z, end, err := unpacked(r, begin)
	if err != nil {
		return err
	}
	defer end()
	inside := bufio.NewReader(io.LimitReader(z, maxMemory))
	for {
		b, err := next(inside)
		if b == nil || err != nil {
			return err
		}
		if !isArchive(b) {
			return disk.Damaged("what is packed is no archive (%x)", b)
		}
		if err := archive(ctx, inside, each); err != nil {
			return err
		}
	}
}

// unpacked is what is packed in one piece, behind which the next one can be read.
func unpacked(r *bufio.Reader, begin []byte) (z io.Reader, end func(), err error) {
	end = func() {}
	damaged := func(err error) error {
		if err != nil {
			err = fmt.Errorf("%w: %w", disk.ErrDamaged, err)
		}
		return err
	}
	switch {
	case begin[0] == 0x1f && begin[1] == 0x8b:
		gz, err := gzip.NewReader(r)
		if err != nil {
			return nil, end, damaged(err)
		}
		gz.Multistream(false)
		return gz, end, nil
	case string(begin[:4]) == zstdMagic:
		d, err := zstd.NewReader(&frame{from: r, next: zstdPieces()}, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxDictionary))
		if err != nil {
			return nil, end, damaged(err)
		}
		return d, d.Close, nil
	case string(begin) == xzMagic:
		if n := dictionary(r); n > maxDictionary {
			return nil, end, disk.Unsupported("it is packed so that %d bytes of memory are needed to unpack it", n)
		}
		d, err := xz.ReaderConfig{DictCap: maxDictionary, SingleStream: true}.NewReader(&frame{from: r, next: xzPieces()})
		return d, end, damaged(err)
	case string(begin[:4]) == lz4Magic: // the form that the kernel takes
		return lz4.NewReader(&frame{from: r, next: lz4Pieces()}), end, nil
	case string(begin[:3]) == "BZh":
		return bzip2.NewReader(r), end, nil
	}
	return nil, end, disk.Unsupported("it is packed in a way that is not read (%x)", begin)
}

// archive reads one that is not packed.
func archive(ctx context.Context, r *bufio.Reader, each Each) error {
	b := make([]byte, header)
	for range maxInMemory {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if _, err := io.ReadFull(r, b); err != nil {
			return endsEarly(err)
		}
		mode, errMode := number(b, atMode)
		size, errSize := number(b, atFileSize)
		length, errName := number(b, atNameSize)
		if err := errors.Join(errMode, errSize, errName); err != nil || !isArchive(b[:magic]) || length < 1 || length > longestOne {
			return disk.Damaged("an archive with a file of %d bytes, whose name has %d", size, length)
		}
		name := make([]byte, length)
		if _, err := io.ReadFull(r, name); err != nil {
			return endsEarly(err)
		}
		file := string(name[:length-1])
		if _, err := io.CopyN(io.Discard, r, padding(header+length)); err != nil && file != lastName {
			return endsEarly(err)
		}
		if file == lastName {
			return nil
		}
		content := &io.LimitedReader{R: r, N: size}
		if fs.ValidPath(file) {
			if err := each(Entry{file, uint32(mode), size}, content); err != nil {
				return err
			}
		}
		if _, err := io.CopyN(io.Discard, r, content.N+padding(size)); err != nil {
			return endsEarly(err)
		}
	}
	return disk.Damaged("an archive with more than %d files", maxInMemory)
}

func endsEarly(err error) error {
	return fmt.Errorf("%w: an archive that ends early: %w", disk.ErrDamaged, err)
}

func number(b []byte, at int) (int64, error) {
	n, err := strconv.ParseUint(string(b[at:at+field]), 16, 32)
	return int64(n), err
}

// padding is what follows so many bytes up to a multiple of four.
func padding(n int64) int64 { return (4 - n%4) % 4 }

// dictionary is how much memory it takes to unpack what follows, in bytes, 0 where that is not found out: then unpacking it fails.
func dictionary(r *bufio.Reader) int64 {
	b, err := r.Peek(xzHeader + 2 + 2*binary.MaxVarintLen64 + 3)
	if err != nil {
		return 0
	}
	flags, b := b[xzHeader+1], b[xzHeader+2:]
	for _, has := range []byte{xzPacked, xzUnpacked} {
		if flags&has != 0 {
			_, n := binary.Uvarint(b)
			b = b[max(n, 0):]
		}
	}
	if b[0] != xzLZMA2 {
		return 0
	}
	n, err := lzma.DecodeDictCap(b[2])
	if err != nil {
		return 0
	}
	return n
}
