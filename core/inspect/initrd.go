package inspect

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

// Facts of initial memory disks (the kernel's documentation of their buffer format): archives of cpio, one behind the other, each packed or not.
const (
	cpioHeader = 110
	cpioField  = 8
	atFileSize = 6 + 6*cpioField
	atNameSize = 6 + 11*cpioField
	lastName   = "TRAILER!!!"

	// xzMagic begins what is packed in that way ("The .xz file format", 2.1.1.1), and the header of its first block (3.1) follows its own header (2.1.1).
	xzMagic    = "\xfd7zXZ\x00"
	xzHeader   = 12
	xzPacked   = 0x40 // flags: which lengths the header of a block has
	xzUnpacked = 0x80
	xzLZMA2    = 0x21 // the filter (5.3.1)

	maxMemory     = 512 << 20 // unpacked, in bytes
	maxDictionary = 128 << 20 // of what is unpacked
	maxInMemory   = 1 << 20
	longestOne    = 4096 // of a name
)

// memoryDisk are the modules in an initial memory disk.
func memoryDisk(ctx context.Context, v *Volume, name string) (modules map[string]bool, err error) {
	f, err := v.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	modules = map[string]bool{}
	err = archives(ctx, bufio.NewReaderSize(f, 1<<20), func(file string) {
		if m := module(file); m != "" {
			modules[m] = true
		}
	})
	if err != nil {
		err = fmt.Errorf("what is in %s is not known: %w", name, err)
	}
	return modules, err
}

// archives calls each with the names of the files in archives that follow each other.
func archives(ctx context.Context, r *bufio.Reader, each func(name string)) error {
	for {
		b, err := r.Peek(6)
		switch {
		case err != nil && !errors.Is(err, io.EOF):
			return fmt.Errorf("%w: unpacking it: %w", disk.ErrDamaged, err)
		case len(b) == 0:
			return nil
		case len(b) > 0 && b[0] == 0: // between two
			if _, err := r.Discard(1); err != nil {
				return err
			}
			continue
		case len(b) < 6:
			return nil // what is left at the end is none
		}
		switch {
		case string(b) == "070701" || string(b) == "070702":
			err = archive(ctx, r, each)
		case b[0] == 0x1f && b[1] == 0x8b:
			z, zErr := gzip.NewReader(r)
			if zErr != nil {
				return fmt.Errorf("%w: %w", disk.ErrDamaged, zErr)
			}
			z.Multistream(false)
			err = archives(ctx, bufio.NewReader(io.LimitReader(z, maxMemory)), each)
		case string(b[:4]) == "\x28\xb5\x2f\xfd":
			z, zErr := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxDictionary))
			if zErr != nil {
				return fmt.Errorf("%w: %w", disk.ErrDamaged, zErr)
			}
			defer z.Close()
			return archives(ctx, bufio.NewReader(io.LimitReader(z, maxMemory)), each)
		case string(b) == xzMagic:
			if n := dictionary(r); n > maxDictionary {
				return disk.Unsupported("it is packed so that %d bytes of memory are needed to unpack it", n)
			}
			z, zErr := xz.ReaderConfig{DictCap: maxDictionary, SingleStream: true}.NewReader(r)
			if zErr != nil {
				return fmt.Errorf("%w: %w", disk.ErrDamaged, zErr)
			}
			err = archives(ctx, bufio.NewReader(io.LimitReader(z, maxMemory)), each)
		case string(b[:4]) == "\x02\x21\x4c\x18": // the form that the kernel takes
			return archives(ctx, bufio.NewReader(io.LimitReader(lz4.NewReader(r), maxMemory)), each)
		case string(b[:3]) == "BZh":
			return archives(ctx, bufio.NewReader(io.LimitReader(bzip2.NewReader(r), maxMemory)), each)
		default:
			return disk.Unsupported("it is packed in a way that is not read (%x)", b)
		}
		if err != nil {
			return err
		}
	}
}

// archive reads one that is not packed.
func archive(ctx context.Context, r *bufio.Reader, each func(name string)) error {
	header := make([]byte, cpioHeader)
	for range maxInMemory {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if _, err := io.ReadFull(r, header); err != nil {
			return fmt.Errorf("%w: an archive that ends early: %w", disk.ErrDamaged, err)
		}
		size, errSize := strconv.ParseInt(string(header[atFileSize:atFileSize+cpioField]), 16, 64)
		length, errName := strconv.ParseInt(string(header[atNameSize:atNameSize+cpioField]), 16, 64)
		if err := errors.Join(errSize, errName); err != nil || string(header[:5]) != "07070" || length < 1 || length > longestOne {
			return disk.Damaged("an archive with a file of %d bytes, whose name has %d", size, length)
		}
		name := make([]byte, length)
		if _, err := io.ReadFull(r, name); err != nil {
			return fmt.Errorf("%w: an archive that ends early: %w", disk.ErrDamaged, err)
		}
		file := string(name[:length-1])
		skip := padding(cpioHeader+length) + size + padding(size)
		if _, err := io.CopyN(io.Discard, r, skip); err != nil && file != lastName {
			return fmt.Errorf("%w: an archive that ends early: %w", disk.ErrDamaged, err)
		}
		if file == lastName {
			return nil
		}
		if fs.ValidPath(file) {
			each(file)
		}
	}
	return disk.Damaged("an archive with more than %d files", maxInMemory)
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
