//go:build linux && !elsewhere

package local

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"syscall"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

type syscallStat = syscall.Stat_t

const (
	// largeIO is the size from which a read or write is taken for part of a copy, which passes through the page
	// cache once; smaller ones are metadata and may stay there.
	largeIO = 256 << 10
	// behind is how many bytes of a copy may wait in the page cache for the storage. Enough to keep the storage
	// busy, and little enough for the last sync to be short (docs/performance.md).
	behind = 32 << 20
)

// readFile is a file opened for reading.
type readFile struct {
	*os.File
	copied atomic.Bool // a large read was made
}

func (f *readFile) Size() (int64, error) { return sizeOf(f.File) }

// ReadAt reads, and lets go of what a large read left in the page cache, so that copying a disk does not push out what
// other programs need.
func (f *readFile) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.File.ReadAt(p, off)
	if n >= largeIO {
		f.copied.Store(true)
		_ = dropCache(f.File, off, int64(n)) // only advice: the content is read either way
	}
	return n, err
}

// Close lets go of what the kernel read ahead, too.
func (f *readFile) Close() error {
	if f.copied.Load() {
		_ = dropCache(f.File, 0, 0) // only advice
	}
	return f.File.Close()
}

// Range finds the end of the data or hole at off with lseek(2), SEEK_DATA and SEEK_HOLE.
func (f *readFile) Range(off int64) (int64, bool, error) { return rangeAt(f.File, off) }

func rangeAt(f *os.File, off int64) (end int64, data bool, err error) {
	size, err := sizeOf(f)
	if err != nil {
		return 0, false, err
	}
	if off >= size {
		return size, false, io.EOF
	}
	// SyscallConn keeps the descriptor from being closed meanwhile. The file position, which lseek moves, is used by nobody.
	conn, err := f.SyscallConn()
	if err != nil {
		return 0, false, err
	}
	var seekErr error
	err = conn.Control(func(fd uintptr) {
		var next int64
		next, seekErr = unix.Seek(int(fd), off, unix.SEEK_DATA)
		switch {
		case errors.Is(seekErr, unix.ENXIO): // no data from here to the end
			end, data, seekErr = size, false, nil
		case seekErr == nil && next > off:
			end, data = min(next, size), false
		case seekErr == nil:
			end, seekErr = unix.Seek(int(fd), off, unix.SEEK_HOLE)
			end, data = min(end, size), true
		case errors.Is(seekErr, unix.EINVAL): // the filesystem cannot tell: all is data
			end, data, seekErr = size, true, nil
		}
	})
	return end, data, errors.Join(err, seekErr)
}

func sizeOf(f *os.File) (int64, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

func dropCache(f *os.File, off, n int64) error {
	return unix.Fadvise(int(f.Fd()), off, n, unix.FADV_DONTNEED)
}

// writeFile is a file being made. Large writes are sent to the storage soon after they were made, and then let go of.
type writeFile struct {
	*os.File

	mu      sync.Mutex
	waiting []span // written, on their way to the storage, oldest first
	bytes   int64  // sum of waiting
}

type span struct{ off, n int64 }

func newWriteFile(f *os.File) *writeFile { return &writeFile{File: f} }

func (f *writeFile) Size() (int64, error)                 { return sizeOf(f.File) }
func (f *writeFile) Range(off int64) (int64, bool, error) { return rangeAt(f.File, off) }

// WriteAt writes, and keeps the bytes that wait for the storage below a bound: when there are more, the caller waits
// for the oldest.
func (f *writeFile) WriteAt(p []byte, off int64) (int, error) {
	n, err := f.File.WriteAt(p, off)
	if err != nil || n < largeIO {
		return n, err
	}
	fd := int(f.Fd())
	if err := unix.SyncFileRange(fd, off, int64(n), unix.SYNC_FILE_RANGE_WRITE); err != nil && !unsupported(err) {
		return n, fmt.Errorf("sending data to the storage: %w", err)
	}
	for _, old := range f.push(span{off, int64(n)}) {
		const wait = unix.SYNC_FILE_RANGE_WAIT_BEFORE | unix.SYNC_FILE_RANGE_WRITE | unix.SYNC_FILE_RANGE_WAIT_AFTER
		if err := unix.SyncFileRange(fd, old.off, old.n, wait); err != nil && !unsupported(err) {
			return n, fmt.Errorf("waiting for the storage: %w", err)
		}
		_ = dropCache(f.File, old.off, old.n) // only advice
	}
	return n, nil
}

// push notes a write and returns those for which it is time to wait.
func (f *writeFile) push(s span) (due []span) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.waiting = append(f.waiting, s)
	f.bytes += s.n
	for f.bytes > behind {
		due = append(due, f.waiting[0])
		f.bytes -= f.waiting[0].n
		f.waiting = f.waiting[1:]
	}
	return due
}

// Allocate reserves room with fallocate(2).
func (f *writeFile) Allocate(off, n int64) error {
	return unix.Fallocate(int(f.Fd()), 0, off, n)
}

// Clone shares the blocks of another file with ioctl_ficlone(2).
func (f *writeFile) Clone(from storage.File) error {
	src, ok := from.(*readFile)
	if !ok {
		return errors.ErrUnsupported
	}
	err := unix.IoctlFileClone(int(f.Fd()), int(src.Fd()))
	if err != nil && (unsupported(err) || errors.Is(err, unix.EXDEV) || errors.Is(err, unix.ENOTTY) || errors.Is(err, unix.EPERM)) {
		return errors.ErrUnsupported
	}
	return err
}

// MakeHole gives a range back with fallocate(2).
func (f *writeFile) MakeHole(off, n int64) error { return Discard(f.File, off, n) }

// Discard makes a range of a file zeros, and gives its room back.
func Discard(f *os.File, off, n int64) error {
	return unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
}

// unsupported: some filesystems do not know an advice; the final sync then does all the work.
func unsupported(err error) bool {
	return errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ESPIPE) || errors.Is(err, unix.EOPNOTSUPP)
}
