package testkit

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Drive is a file that fails as a drive does, whoever reads or writes it: a filesystem of its own (FUSE) with the one file in it.
type Drive struct {
	Path string // of the file

	file *os.File
	mu   sync.Mutex
	dead bool
	bad  []span
}

type span struct{ off, n int64 }

// NewDrive makes a drive of that size in bytes. It skips the test where that is not possible.
func NewDrive(t testing.TB, name string, size int64) *Drive {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting a filesystem takes root")
	}
	if _, err := os.Stat("/dev/fuse"); err != nil {
		t.Skip("this kernel has no FUSE")
	}
	file, err := os.CreateTemp(t.TempDir(), "drive-")
	require.NoError(t, err)
	require.NoError(t, file.Truncate(size))
	d := &Drive{file: file}
	dir := t.TempDir()
	root := &driveRoot{drive: d, name: name}
	server, err := fs.Mount(dir, root, &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true, FsName: "drive"}})
	if err != nil {
		t.Skipf("mounting a drive is not possible here: %v", err)
	}
	t.Cleanup(func() {
		if server.Unmount() != nil { // the service, which was told to end, has a file open a moment longer
			require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH))
		}
		require.NoError(t, file.Close())
	})
	d.Path = filepath.Join(dir, name)
	return d
}

// WriteAt writes to the drive past all faults.
func (d *Drive) WriteAt(p []byte, off int64) (int, error) { return d.file.WriteAt(p, off) }

// Scratch makes a range unreadable.
func (d *Drive) Scratch(off, n int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.bad = append(d.bad, span{off, n})
}

// Heal makes all of it readable again.
func (d *Drive) Heal() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.bad = nil
}

// Pull makes everything fail, until it is plugged in again.
func (d *Drive) Pull(pulled bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.dead = pulled
}

func (d *Drive) fails(off, n int64) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, b := range d.bad {
		if off < b.off+b.n && off+n > b.off {
			return true
		}
	}
	return d.dead
}

type driveRoot struct {
	fs.Inode
	drive *Drive
	name  string
}

func (r *driveRoot) OnAdd(ctx context.Context) {
	r.AddChild(r.name, r.NewPersistentInode(ctx, &driveFile{drive: r.drive}, fs.StableAttr{Mode: fuse.S_IFREG}), false)
}

type driveFile struct {
	fs.Inode
	drive *Drive
}

func (f *driveFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	info, err := f.drive.file.Stat()
	if err != nil {
		return fs.ToErrno(err)
	}
	out.Mode, out.Size, out.Blocks = fuse.S_IFREG|0o600, uint64(info.Size()), uint64(info.Size()/512)
	modified := info.ModTime()
	out.SetTimes(nil, &modified, &modified)
	return 0
}

// Open has everything read and written directly, so that faults are exact and not hidden by a cache.
func (f *driveFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_DIRECT_IO, 0
}

func (f *driveFile) Read(_ context.Context, _ fs.FileHandle, p []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	if f.drive.fails(off, int64(len(p))) {
		return nil, syscall.EIO
	}
	n, err := f.drive.file.ReadAt(p, off)
	if n == 0 && err != nil && off < f.size() {
		return nil, fs.ToErrno(err)
	}
	return fuse.ReadResultData(p[:n]), 0
}

func (f *driveFile) size() int64 {
	info, err := f.drive.file.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

func (f *driveFile) Write(_ context.Context, _ fs.FileHandle, p []byte, off int64) (uint32, syscall.Errno) {
	if f.drive.fails(off, int64(len(p))) {
		return 0, syscall.EIO
	}
	n, err := f.drive.file.WriteAt(p, off)
	return uint32(n), fs.ToErrno(err)
}

func (f *driveFile) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno {
	if f.drive.fails(0, 0) {
		return syscall.EIO
	}
	return 0
}

func (f *driveFile) Setattr(ctx context.Context, _ fs.FileHandle, _ *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	return f.Getattr(ctx, nil, out)
}
