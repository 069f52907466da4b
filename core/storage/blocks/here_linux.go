package blocks

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"unsafe"

	"bagaglio/core/device"
	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// Here is this computer.
type Here struct{ device.Here }

// OpenDevice opens a disk. It is read past what the system remembers of its content, where that can be.
func (Here) OpenDevice(d device.Device) (storage.File, error) {
	sector := d.SectorSize
	file, err := os.OpenFile(d.Path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_DIRECT, 0)
	if errors.Is(err, unix.EINVAL) {
		sector = 0
		file, err = os.OpenFile(d.Path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	}
	if err != nil {
		return nil, err
	}
	if err := isDevice(file, d); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	_ = unix.IoctlSetInt(int(file.Fd()), unix.BLKFLSBUF, 0) // it takes root
	return &local{file, sector}, nil
}

// OverwriteDevice opens a block device for reading and writing, for the caller alone.
func (Here) OverwriteDevice(d device.Device) (storage.File, error) {
	file, err := os.OpenFile(d.Path, os.O_RDWR|unix.O_NONBLOCK|unix.O_EXCL, 0)
	if errors.Is(err, unix.EBUSY) {
		err = fmt.Errorf("%s is in use by somebody", d.Path)
	}
	if err != nil {
		return nil, err
	}
	if err := isDevice(file, d); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &writable{file, d.Size}, nil
}

// OpenVolume opens a block device by its path: to be read past what the system remembers of it, or to be read and written.
func (Here) OpenVolume(path string, size int64, write bool) (storage.File, error) {
	flags := os.O_RDONLY | unix.O_DIRECT
	if write {
		flags = os.O_RDWR
	}
	file, err := os.OpenFile(path, flags|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	sector, err := unix.IoctlGetInt(int(file.Fd()), unix.BLKSSZGET)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s is no block device: %w", path, err), file.Close())
	}
	if write {
		return &writable{file, size}, nil
	}
	return &local{file, int64(sector)}, nil
}

// isDevice fails where an open file is not the device that was looked at.
func isDevice(file *os.File, d device.Device) error {
	var s unix.Stat_t
	err := unix.Fstat(int(file.Fd()), &s)
	if err == nil && s.Mode&unix.S_IFMT != unix.S_IFBLK {
		err = fmt.Errorf("%s: %w", d.Path, device.ErrNone)
	}
	if number := fmt.Sprintf("%d:%d", unix.Major(s.Rdev), unix.Minor(s.Rdev)); err == nil && number != d.Number {
		err = fmt.Errorf("%s is the device %s, and not %s", d.Path, number, d.Number)
	}
	return err
}

// writable is a disk that is written over.
type writable struct {
	*os.File
	size int64
}

func (w *writable) Size() (int64, error) { return w.size, nil }

// Close has the system look for the partitions anew.
func (w *writable) Close() error {
	_, _ = unix.IoctlRetInt(int(w.Fd()), unix.BLKRRPART) // some have none
	return w.File.Close()
}

// Wipe makes a range zeros (fallocate(2), of block devices).
func (w *writable) Wipe(off, n int64, back bool) error {
	mode := uint32(unix.FALLOC_FL_ZERO_RANGE)
	if back {
		mode = unix.FALLOC_FL_PUNCH_HOLE
	}
	err := unix.Fallocate(int(w.Fd()), mode|unix.FALLOC_FL_KEEP_SIZE, off, n)
	if errors.Is(err, unix.EOPNOTSUPP) {
		err = fmt.Errorf("%s: %w", w.Name(), errors.ErrUnsupported)
	}
	return err
}

func (*writable) Truncate(int64) error { return errors.ErrUnsupported }

// Start runs a script in a session of its own: nothing that ends this process ends it, but for the end of its input.
func (Here) Start(script string, args ...string) (Script, error) {
	cmd := exec.Command("sh", append([]string{"-c", script, "bagaglio"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	in, err := cmd.StdinPipe()
	if err != nil {
		return Script{}, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return Script{}, err
	}
	return Script{in, out, cmd.Wait}, cmd.Start()
}

// Held tells whether a program has a disk for itself.
func (Here) Held(d device.Device) (bool, error) {
	file, err := os.OpenFile(d.Path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_EXCL, 0)
	switch {
	case errors.Is(err, unix.EBUSY):
		return true, nil
	case err != nil:
		return false, nil // whoever opens it is told
	}
	return false, file.Close()
}

// Close has nothing to close.
func (Here) Close() error { return nil }

// local is an open device of this computer. Where it is read directly, each read is of whole sectors, into memory that begins at a page.
type local struct {
	*os.File
	sector int64 // bytes, 0 where it is not read directly
}

const (
	pageSize = 4096
	// window is how much is read at once where memory or range do not fit, in bytes.
	window = 1 << 20
)

// windows are buffers that begin at a page.
var windows = sync.Pool{New: func() any {
	b := make([]byte, window+pageSize)
	skip := (pageSize - int(address(b)%pageSize)) % pageSize
	b = b[skip : skip+window]
	return &b
}}

func address(b []byte) uintptr { return uintptr(unsafe.Pointer(unsafe.SliceData(b))) }

// ReadAt reads.
func (l *local) ReadAt(p []byte, off int64) (n int, err error) {
	if l.sector == 0 || address(p)%pageSize == 0 && off%l.sector == 0 && int64(len(p))%l.sector == 0 {
		return l.File.ReadAt(p, off)
	}
	b := windows.Get().(*[]byte)
	defer windows.Put(b)
	for n < len(p) {
		at := off + int64(n)
		start := at / l.sector * l.sector
		length := min(window, (at+int64(len(p)-n)-start+l.sector-1)/l.sector*l.sector)
		got, err := l.File.ReadAt((*b)[:length], start)
		if int64(got) <= at-start {
			return n, err
		}
		n += copy(p[n:], (*b)[at-start:got])
		if n < len(p) && err != nil {
			return n, err
		}
	}
	return n, nil
}

// Size is told by whoever opened it.
func (*local) Size() (int64, error) { return 0, errors.ErrUnsupported }
