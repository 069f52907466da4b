package disk

import (
	"context"
	"errors"
	"fmt"
	"io"

	"bagaglio/core/storage"
)

// FileExtent returns the run at off of a file that holds the guest's bytes one to one, up to size.
func FileExtent(f storage.File, off, size int64) (Extent, error) {
	finder, ok := f.(storage.RangeFinder)
	if !ok {
		return Extent{Off: off, Len: size - off, Kind: Data}, nil
	}
	end, data, err := finder.Range(off)
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = Damaged("the file ends before offset %d: it is truncated", off)
		}
		return Extent{}, err
	}
	e := Extent{Off: off, Len: min(end, size) - off, Kind: Hole}
	if data {
		e.Kind = Data
	}
	return e, nil
}

// WithHoles is a run of a disk that is stored at an offset of a file, up to where that has a hole or holds data again.
func WithHoles(f storage.File, run Extent, at int64) (Extent, error) {
	stored, err := FileExtent(f, at, at+run.Len)
	return Extent{Off: run.Off, Len: stored.Len, Kind: stored.Kind}, err
}

// CreateFlat makes an image whose file holds the guest's bytes one to one, followed by trailer. A thick one takes its
// whole room now, so that it cannot run out of it later.
func CreateFlat(t Target, thick bool, trailer []byte) (Writer, error) {
	file, err := t.NewFile(t.Name)
	if err != nil {
		return nil, err
	}
	w := &flat{target: t, file: file, thick: thick, trailer: trailer}
	if thick && t.Size > 0 && !t.Resumed() {
		err = w.reserve()
	}
	if err == nil {
		err = file.Truncate(t.Size)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("setting the size of %s: %w", t.Name, err), w.Close())
	}
	return w, nil
}

type flat struct {
	target  Target
	file    storage.File
	thick   bool
	trailer []byte
	done    bool
}

// reserve takes the room of the whole disk, by writing zeros where the storage cannot do it otherwise.
func (w *flat) reserve() error {
	if a, ok := w.file.(storage.Allocator); ok {
		err := a.Allocate(0, w.target.Size)
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	return writeZeros(w.file, 0, w.target.Size)
}

func (w *flat) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckRange(off, int64(len(p)), w.target.Size); err != nil {
		return 0, err
	}
	return w.file.WriteAt(p, off)
}

func (w *flat) Zero(off, n int64) error {
	if err := CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	// Nothing was written here before, mostly: then it is zeros already.
	if finder, ok := w.file.(storage.RangeFinder); ok {
		if end, data, err := finder.Range(off); err == nil && !data && end >= off+n {
			return nil
		}
	}
	if w.thick {
		return writeZeros(w.file, off, n)
	}
	return wipe(w.file, off, n)
}

func writeZeros(f io.WriterAt, off, n int64) error {
	zeros := make([]byte, min(n, 1<<20))
	for n > 0 {
		k, err := f.WriteAt(zeros[:min(n, int64(len(zeros)))], off)
		if err != nil {
			return err
		}
		off, n = off+int64(k), n-int64(k)
	}
	return nil
}

// Clone takes over the file of a plain disk, where the storage can share its blocks. A thick image has room of its own.
func (w *flat) Clone(src Reader) error {
	plain, ok := src.(Plain)
	to, can := w.file.(storage.Cloner)
	if !ok || !can || w.thick || plain.File() == nil || w.target.Resumed() {
		return errors.ErrUnsupported
	}
	if err := to.Clone(plain.File()); err != nil {
		return err
	}
	return w.file.Truncate(w.target.Size) // without what a format has behind the disk
}

func (w *flat) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if len(w.trailer) > 0 {
		if _, err := w.file.WriteAt(w.trailer, w.target.Size); err != nil {
			return fmt.Errorf("writing the end of %s: %w", w.target.Name, err)
		}
	}
	if err := w.file.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.target.Name, err)
	}
	w.done = true
	return w.file.Close()
}

// Locate tells that everything lies where the guest sees it.
func (w *flat) Locate(off int64) (Place, error) {
	return Place{Extent{Off: off, Len: w.target.Size - off}, w.target.Name, off}, nil
}

func (w *flat) Checkpoint() error { return w.file.Sync() }

func (w *flat) Close() error {
	if w.done {
		return nil
	}
	w.done = true
	return w.file.Close()
}

func (w *flat) Files() []string { return []string{w.target.Name} }
