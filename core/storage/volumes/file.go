package volumes

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"

	"bagaglio/core/storage"
)

// file is an open volume.
type file struct {
	storage.File
	folder *Folder
	volume volume
	size   int64
	closed sync.Once
}

func (f *file) Size() (int64, error) { return f.size, nil }

// Truncate makes it larger, with zeros. It is never made smaller: nobody wants that of an image which is being made.
func (f *file) Truncate(size int64) error {
	if size == f.size {
		return nil
	}
	unit, err := f.folder.tools.unit()
	if err != nil {
		return err
	}
	if size < f.size || size%unit != 0 {
		return fmt.Errorf("a volume of %d bytes cannot have %d: its size is a multiple of %d, and it only grows", f.size, size, unit)
	}
	if err := f.folder.tools.grow(f.volume.name, size); err != nil {
		return fmt.Errorf("growing the volume %s: %w", f.volume.name, err)
	}
	f.folder.known.forget()
	before := f.size
	f.size = size
	return f.zero(before, size-before)
}

// zero has the host write zeros to a range that is new, where what lay there before would show otherwise.
func (f *file) zero(off, n int64) error {
	if f.folder.tools.zeros() {
		return nil
	}
	_, err := run(
		f.folder.on,
		"blkdiscard",
		"--zeroout",
		"--offset",
		strconv.FormatInt(off, 10),
		"--length",
		strconv.FormatInt(n, 10),
		f.volume.path,
	)
	return err
}

// Close closes it.
func (f *file) Close() error {
	f.closed.Do(func() { f.folder.opened.closes(f.volume) })
	return f.File.Close()
}

// made is a volume that was made since it was opened: it reads as zeros where nothing was written to.
type made struct {
	*file
	unit int64 // of what is noted as written, in bytes

	mu      sync.Mutex
	written map[int64]bool
}

// WriteAt writes.
func (m *made) WriteAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	for u := off / m.unit; u*m.unit < off+int64(len(p)); u++ {
		m.written[u] = true
	}
	m.mu.Unlock()
	return m.file.WriteAt(p, off)
}

// Range tells where nothing was written since it was made.
func (m *made) Range(off int64) (end int64, data bool, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if off >= m.size {
		return m.size, false, io.EOF
	}
	u := off / m.unit
	data = m.written[u]
	for u++; u*m.unit < m.size && m.written[u] == data; u++ {
	}
	return min(u*m.unit, m.size), data, nil
}

// Allocate takes room: a volume that is not thin has it.
func (m *made) Allocate(off, n int64) error {
	if m.folder.tools.zeros() {
		return fmt.Errorf("a thin volume takes its room when it is written to: %w", errors.ErrUnsupported)
	}
	return m.Truncate(max(m.size, off+n))
}
