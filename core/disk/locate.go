package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"bagaglio/core/storage"
)

// Place is a run of a disk. For Data it lies in that file, as the guest sees it, from an offset on; holes of the file included.
type Place struct {
	Extent
	File string
	At   int64
}

// Locator is a Reader or a Writer that stores what the guest sees byte for byte, and can tell where.
type Locator interface {
	// Locate returns the run that starts at off, for 0 <= off < the disk's size.
	Locate(off int64) (Place, error)
}

// errElsewhere is the error for two that do not agree.
var errElsewhere = errors.New("it lies elsewhere")

// SamePlaces fails unless what a writer put somewhere is looked for there by a reader of the image, up to an offset of the disk.
func SamePlaces(ctx context.Context, writer, reader Locator, end int64) error {
	var a, b Place // what is left of the runs that were told last: telling a long one again for each short one of the other side takes long
	for off := int64(0); off < end; {
		if err := ctx.Err(); err != nil {
			return err
		}
		var err error
		if a.Len <= 0 {
			a, err = writer.Locate(off)
		}
		if err == nil && b.Len <= 0 {
			b, err = reader.Locate(off)
		}
		if err != nil {
			return err
		}
		n := min(a.Len, b.Len)
		same := a.Kind == b.Kind && (a.Kind != Data || a.At == b.At && (b.File == a.File || strings.HasSuffix(b.File, "/"+a.File)))
		if !same || n <= 0 {
			return fmt.Errorf("%w: at offset %d %+v and %+v", errElsewhere, off, a, b)
		}
		off, a, b = off+n, a.behind(n), b.behind(n)
	}
	return nil
}

// behind is what is left of a run behind its first n bytes.
func (p Place) behind(n int64) Place {
	p.Off, p.Len = p.Off+n, p.Len-n
	if p.Kind == Data {
		p.At += n
	}
	return p
}

// ReadBack reads from storage what a Writer has written and synced, before its image can be opened.
type ReadBack struct {
	places Locator
	size   int64
	base   Reader
	folder storage.Folder

	mu    sync.Mutex
	files map[string]storage.File
}

// NewReadBack reads what places tells of, in a disk of that size which stands on base, or on none.
func NewReadBack(places Locator, t Target) *ReadBack {
	return &ReadBack{places: places, size: t.Size, base: t.Base, folder: storage.Fresh(t.Folder), files: map[string]storage.File{}}
}

// Size is the virtual size.
func (r *ReadBack) Size() int64 { return r.size }

// Describe says nothing.
func (r *ReadBack) Describe() Description { return Description{} }

// Forget has files opened again, so that they come from storage: what was read before may be in a cache.
func (r *ReadBack) Forget() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	var err error
	for _, f := range r.files {
		err = errors.Join(err, f.Close())
	}
	clear(r.files)
	return err
}

// Close closes the files that it has opened.
func (r *ReadBack) Close() error { return r.Forget() }

func (r *ReadBack) file(name string) (storage.File, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if f := r.files[name]; f != nil {
		return f, nil
	}
	f, err := r.folder.Open(name)
	if err == nil {
		r.files[name] = f
	}
	return f, err
}

// Extent returns the run at off. What lies behind the present end of a file has not been written, and reads as zeros.
func (r *ReadBack) Extent(off int64) (Extent, error) {
	p, err := r.places.Locate(off)
	if err != nil {
		return Extent{}, err
	}
	switch {
	case p.Kind == Hole && r.base != nil:
		return ExtentBelow(r.base, p.Extent)
	case p.Kind != Data:
		return p.Extent, nil
	}
	f, err := r.file(p.File)
	if err != nil {
		return Extent{}, err
	}
	size, err := f.Size()
	if err != nil || p.At >= size {
		return Extent{Off: off, Len: p.Len, Kind: Hole}, err
	}
	e, err := FileExtent(f, p.At, min(size, p.At+p.Len))
	e.Off = off
	return e, err
}

// ReadAt keeps the rules of io.ReaderAt.
func (r *ReadBack) ReadAt(p []byte, off int64) (int, error) {
	return ReadRuns(p, off, r.size, func(p []byte, off int64) (int, error) {
		at, err := r.places.Locate(off)
		if err != nil {
			return 0, err
		}
		p = p[:min(int64(len(p)), at.Len)]
		switch {
		case at.Kind == Hole && r.base != nil:
			return len(p), ReadBelow(r.base, p, off)
		case at.Kind != Data:
			clear(p)
			return len(p), nil
		}
		f, err := r.file(at.File)
		if err != nil {
			return 0, err
		}
		n, err := f.ReadAt(p, at.At)
		if errors.Is(err, io.EOF) {
			clear(p[n:])
			err = nil
		}
		return len(p), err
	})
}
