package inspect

import (
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/zstd"
)

// Facts of initial memory disks (the kernel's documentation of their buffer format): archives of cpio, one behind the other, each packed or not.
const (
	cpioHeader = 110
	cpioField  = 8
	atFileSize = 6 + 6*cpioField
	atNameSize = 6 + 11*cpioField
	lastName   = "TRAILER!!!"

	maxMemory   = 512 << 20 // unpacked, in bytes
	maxInMemory = 1 << 20
	longestOne  = 4096 // of a name
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
			z, zErr := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
			if zErr != nil {
				return fmt.Errorf("%w: %w", disk.ErrDamaged, zErr)
			}
			defer z.Close()
			return archives(ctx, bufio.NewReader(io.LimitReader(z, maxMemory)), each)
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
