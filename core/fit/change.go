package fit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/storage/local"
)

// Change makes a copy of each filesystem that is to have another size, in a folder of this computer that it makes, and has the system's tools change
// it there. tell is called with the bytes that were copied. A folder that an earlier time left is made anew. That files are the same afterwards,
// nobody knows before Compare.
func Change(ctx context.Context, src disk.Reader, l Layout, dir string, tell func(n int64)) error {
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, p := range l.Parts {
		if !p.Resized {
			continue
		}
		if err := p.change(ctx, src, filepath.Join(dir, p.file()), tell); err != nil {
			return fmt.Errorf("%s: %w", p.Called(), err)
		}
	}
	return nil
}

// Compare compares every file of the filesystems that were changed: on the disk as it was, and on the one that was made. It returns the layout with how
// many there are, and fails at the first that differs.
func Compare(ctx context.Context, before, after disk.Reader, l Layout) (Layout, error) {
	l.Parts = slices.Clone(l.Parts)
	for i := range l.Parts {
		p := &l.Parts[i]
		if !p.Resized {
			continue
		}
		was, err := inspect.Mount(before, p.Filesystem, p.From, p.FromLength)
		if err != nil {
			return l, fmt.Errorf("%s: %w", p.Called(), err)
		}
		is, err := inspect.Mount(after, p.Filesystem, p.Offset, p.Length)
		if err != nil {
			return l, fmt.Errorf("%s, on the new disk: %w", p.Called(), err)
		}
		if p.Files, err = inspect.SameFiles(ctx, was, is); err != nil {
			return l, fmt.Errorf("%s: %w", p.Called(), err)
		}
		if size := is.About().Size; size > p.Length {
			return l, fmt.Errorf("%s takes %d bytes, and has %d", p.Called(), size, p.Length)
		}
	}
	return l, nil
}

// file is what the copy of a filesystem is called.
func (p Part) file() string { return strconv.Itoa(p.Number) + ".raw" }

// Changed opens the disk as Change left it. The caller closes it.
func Changed(ctx context.Context, src disk.Reader, l Layout, dir string) (d disk.Reader, err error) {
	changed := map[int]disk.Reader{}
	defer func() {
		if err != nil {
			for _, r := range changed {
				err = errors.Join(err, r.Close())
			}
		}
	}()
	for _, p := range l.Parts {
		if !p.Resized {
			continue
		}
		folder, err := local.Open(dir)
		if err != nil {
			return nil, err
		}
		if changed[p.Number], err = disk.Open(ctx, folder, p.file(), "raw"); err != nil {
			delete(changed, p.Number)
			return nil, fmt.Errorf("opening what was made of %s: %w", p.Called(), err)
		}
	}
	return Open(src, l, changed)
}

func (p Part) change(ctx context.Context, src disk.Reader, name string, tell func(int64)) error {
	before, err := inspect.Mount(src, p.Filesystem, p.From, p.FromLength)
	if err != nil {
		return err
	}
	if doubt := before.About().Doubt; doubt != "" {
		return fmt.Errorf("it is not changed: %s", doubt)
	}
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := file.Truncate(max(p.FromLength, p.Length)); err != nil {
		return err
	}
	if err := copyUsed(ctx, file, src, p.From, before, tell); err != nil {
		return err
	}
	if err := tools[p.Filesystem].run(ctx, name, p.Length, p.Length < p.FromLength); err != nil {
		return err
	}
	if err := file.Truncate(p.Length); err != nil {
		return err
	}
	return file.Sync()
}

// copyUsed copies what a filesystem uses, and leaves holes for zeros.
func copyUsed(ctx context.Context, to *os.File, src io.ReaderAt, start int64, v *inspect.Volume, tell func(int64)) error {
	b := make([]byte, 1<<20)
	return v.Used(ctx, func(r fingerprint.Range) error {
		for done := int64(0); done < r.Length; {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			part := b[:min(int64(len(b)), r.Length-done)]
			if n, err := src.ReadAt(part, start+r.Offset+done); n < len(part) {
				return fmt.Errorf("reading at offset %d: %w", start+r.Offset+done, err)
			}
			if !fingerprint.IsZero(part) {
				if _, err := to.WriteAt(part, r.Offset+done); err != nil {
					return err
				}
			}
			done += int64(len(part))
			tell(int64(len(part)))
		}
		return nil
	})
}
