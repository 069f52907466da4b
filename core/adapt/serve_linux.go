//go:build linux && !elsewhere

package adapt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// served is a range of an overlay as a file of this computer (FUSE), which nobody sees but the thread that serves it: it has its mounts for itself (unshare(2)).
type served struct {
	overlay *Overlay
	off     int64
	length  int64
	failed  atomic.Value // error, the first of writing or reading
	path    string       // of the file
}

// serve has the range be a file in a folder, on a thread of apart, until end is called.
func (s *served) serve(dir string) (end func() error, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	server, err := fs.Mount(dir, &servedRoot{served: s}, &fs.Options{MountOptions: fuse.MountOptions{
		DirectMountStrict: true, FsName: "copy", Name: "copy", MaxWrite: 1 << 20,
	}})
	if err != nil {
		return nil, fmt.Errorf("showing the copy as a file: %w", err)
	}
	s.path = filepath.Join(dir, servedName)
	return func() error {
		err := server.Unmount()
		if failed, ok := s.failed.Load().(error); ok {
			err = errors.Join(failed, err)
		}
		return err
	}, nil
}

const servedName = "partition"

type servedRoot struct {
	fs.Inode
	served *served
}

func (r *servedRoot) OnAdd(ctx context.Context) {
	r.AddChild(servedName, r.NewPersistentInode(ctx, &servedFile{served: r.served}, fs.StableAttr{Mode: fuse.S_IFREG}), false)
}

type servedFile struct {
	fs.Inode
	served *served
}

func (f *servedFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode, out.Size, out.Blocks = fuse.S_IFREG|0o600, uint64(f.served.length), uint64(f.served.length/512)
	return 0
}

// Setattr takes no other length.
func (f *servedFile) Setattr(ctx context.Context, h fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if size, ok := in.GetSize(); ok && size != uint64(f.served.length) {
		return syscall.EFBIG
	}
	return f.Getattr(ctx, h, out)
}

func (f *servedFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, 0, 0
}

func (f *servedFile) Read(_ context.Context, _ fs.FileHandle, p []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	n := max(0, min(int64(len(p)), f.served.length-off))
	k, err := f.served.overlay.ReadAt(p[:n], f.served.off+off)
	if err != nil && !errors.Is(err, io.EOF) {
		f.served.failed.CompareAndSwap(nil, fmt.Errorf("reading the copy at offset %d: %w", f.served.off+off, err))
		return nil, syscall.EIO
	}
	return fuse.ReadResultData(p[:k]), 0
}

func (f *servedFile) Write(_ context.Context, _ fs.FileHandle, p []byte, off int64) (uint32, syscall.Errno) {
	if off+int64(len(p)) > f.served.length {
		return 0, syscall.EFBIG
	}
	n, err := f.served.overlay.WriteAt(p, f.served.off+off)
	if err != nil {
		f.served.failed.CompareAndSwap(nil, fmt.Errorf("writing at offset %d: %w", f.served.off+off, err))
		return 0, syscall.EIO
	}
	return uint32(n), 0
}

func (f *servedFile) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno { return 0 }

// loopTries bounds how often another device is asked for where somebody else took it.
const loopTries = 20

// loop makes the file a device (loop(4)), which is gone when it is closed and nothing of it is mounted any more.
func (s *served) loop() (*os.File, error) {
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer control.Close()
	file, err := os.OpenFile(s.path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	for range loopTries {
		number, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			return nil, fmt.Errorf("asking for a loop device: %w", err)
		}
		device, err := os.OpenFile(fmt.Sprintf("/dev/loop%d", number), os.O_RDWR, 0)
		if err != nil {
			return nil, err
		}
		config := unix.LoopConfig{Fd: uint32(file.Fd()), Size: 512, Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_AUTOCLEAR}}
		err = unix.IoctlLoopConfigure(int(device.Fd()), &config)
		if err == nil {
			return device, nil
		}
		if err = errors.Join(err, device.Close()); !errors.Is(err, unix.EBUSY) {
			return nil, fmt.Errorf("making the copy a device: %w", err)
		}
	}
	return nil, errors.New("no loop device is free")
}
