package archive

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// block is what everything in a tar archive is a multiple of, in bytes, and end are the blocks of zeros behind the last file (POSIX.1-1988).
const block, end = 512, 2

// largest is the longest file that a header of ustar can tell; that of a longer one is written as GNU tar does, which all readers know.
const largest = 8<<30 - 1

// Writer makes an archive in a file, one file of it after the other, each in place: nothing is written twice, and only the last one may grow.
type Writer struct {
	file storage.File
	at   int64 // where the next one begins
	made time.Time
}

// NewWriter begins at the beginning of a file. Times of the files inside are made.
func NewWriter(file storage.File, made time.Time) *Writer { return &Writer{file: file, made: made} }

// Append begins a file whose length is not known yet. Nothing else is begun before Done.
func (w *Writer) Append(name string) *Entry {
	return &Entry{w: w, name: name, off: w.at + block}
}

// Reserve makes room for a file of a known length, whose content is put there later.
func (w *Writer) Reserve(name string, size int64) (*Entry, error) {
	e := w.Append(name)
	if err := e.Truncate(size); err != nil {
		return nil, err
	}
	return e, e.Done()
}

// Finish ends the archive.
func (w *Writer) Finish() error {
	if err := w.file.Truncate(w.at + end*block); err != nil {
		return err
	}
	return w.file.Sync()
}

// Entry is a file of an archive that is being made.
type Entry struct {
	w    *Writer
	name string
	off  int64

	mu   sync.Mutex
	size int64
}

// Done says that it has its length, and puts what stands before it.
func (e *Entry) Done() error {
	size, err := e.Size()
	if err != nil {
		return err
	}
	var head bytes.Buffer
	h := &tar.Header{
		Name:     e.name,
		Size:     size,
		Mode:     0o644,
		ModTime:  e.w.made.Truncate(time.Second),
		Typeflag: tar.TypeReg,
		Format:   tar.FormatUSTAR,
	}
	if size > largest {
		h.Format = tar.FormatGNU
	}
	if err := tar.NewWriter(&head).WriteHeader(h); err != nil {
		return err
	}
	if head.Len() != block {
		return fmt.Errorf("%q is too long for the name of a file in an archive", e.name)
	}
	if _, err := e.w.file.WriteAt(head.Bytes(), e.off-block); err != nil {
		return err
	}
	e.w.at = e.off + (size+block-1)/block*block
	return e.w.file.Truncate(e.w.at) // what is left of the last block is zeros
}

// ReadAt reads what was written.
func (e *Entry) ReadAt(p []byte, off int64) (int, error) {
	size, err := e.Size()
	if err != nil {
		return 0, err
	}
	if off >= size {
		return 0, io.EOF
	}
	short := p[:min(int64(len(p)), size-off)]
	n, err := e.w.file.ReadAt(short, e.off+off)
	if n == len(short) && len(short) < len(p) {
		err = io.EOF
	}
	return n, err
}

// WriteAt writes, and makes it longer where that is behind its end.
func (e *Entry) WriteAt(p []byte, off int64) (int, error) {
	n, err := e.w.file.WriteAt(p, e.off+off)
	e.mu.Lock()
	defer e.mu.Unlock()
	e.size = max(e.size, off+int64(n))
	return n, err
}

// Size is its length so far.
func (e *Entry) Size() (int64, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.size, nil
}

// Truncate changes its length.
func (e *Entry) Truncate(size int64) error {
	if err := e.w.file.Truncate(e.off + size); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.size = size
	return nil
}

// Sync syncs the archive.
func (e *Entry) Sync() error { return e.w.file.Sync() }

// Close does nothing: the archive is whoever's made it.
func (e *Entry) Close() error { return nil }

// Into is a folder in which the writer of one image makes its only file, which is that of an archive.
type Into struct {
	Folder
	w    *Writer
	made *Entry
}

// Into returns one.
func (w *Writer) Into() *Into { return &Into{w: w} }

// Create makes the file.
func (i *Into) Create(name string) (storage.File, error) {
	if i.made != nil {
		return nil, fmt.Errorf("an image in an archive has one file: %w", errors.ErrUnsupported)
	}
	i.made = i.w.Append(name)
	return i.made, nil
}

// Made is the file, nil before.
func (i *Into) Made() *Entry { return i.made }
