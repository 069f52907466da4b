package sftp

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"sync"
	"syscall"

	"github.com/pkg/sftp"
)

// file is an open file of a host. What it reads and writes at once goes in several packets that wait for their answers together.
type file struct {
	client *client
	file   *sftp.File // on the first lane
	name   string
	flags  int

	mu    sync.Mutex
	lanes []*sftp.File // the same file on each lane, nil where it is not open yet
	next  int
}

// lane returns the file on the lane whose turn it is. The last one is for syncing, which keeps the host from answering on it meanwhile.
func (f *file) lane() *sftp.File {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.next++
	return f.on(f.next % max(1, len(f.lanes)-1))
}

// on returns the file on a lane. The lock is held.
func (f *file) on(i int) *sftp.File {
	if f.lanes[i] == nil {
		opened, err := f.client.lanes[i].OpenFile(f.file.Name(), f.flags)
		if err != nil { // it may have been renamed meanwhile: the first lane has it all the same
			return f.file
		}
		if f.flags == os.O_RDONLY && !same(opened, f.file) { // another file has its name now
			_ = opened.Close() // nothing was done with it
			return f.file
		}
		f.lanes[i] = opened
	}
	return f.lanes[i]
}

// same tells whether two open files are one, as far as the protocol tells.
func same(a, b *sftp.File) bool {
	x, errX := a.Stat()
	y, errY := b.Stat()
	return errX == nil && errY == nil && x.Size() == y.Size() && x.ModTime().Equal(y.ModTime())
}

// ReadAt reads. An answer that is short without a reason is an error: a host may say anything.
func (f *file) ReadAt(p []byte, off int64) (n int, err error) {
	var end error
	err = f.client.ask(func() (err error) {
		n, err = f.lane().ReadAt(p, off)
		if errors.Is(err, io.EOF) {
			end, err = io.EOF, nil
		} else if n < len(p) && err == nil {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
	if err == nil {
		err = end
	}
	return n, err
}

// WriteAt writes.
func (f *file) WriteAt(p []byte, off int64) (n int, err error) {
	err = f.client.ask(func() (err error) {
		n, err = f.lane().WriteAt(p, off)
		if n < len(p) && err == nil {
			err = io.ErrShortWrite
		}
		return f.full(err, int64(len(p)))
	})
	return n, err
}

// full finds out whether something failed for want of room, for which the protocol has no status.
func (f *file) full(err error, n int64) error {
	var status *sftp.StatusError
	if !errors.As(err, &status) {
		return err
	}
	if st, statErr := f.client.sftp.StatVFS(path.Dir(f.file.Name())); statErr == nil && int64(st.Bavail)*int64(st.Frsize) < n {
		return fmt.Errorf("writing %s: %w", f.name, syscall.ENOSPC)
	}
	return err
}

// Size asks the host.
func (f *file) Size() (size int64, err error) {
	err = f.client.ask(func() error {
		info, err := f.file.Stat()
		if err == nil {
			size = max(0, info.Size())
		}
		return err
	})
	return size, err
}

// Truncate sets the length. What is added is a hole, where the host's filesystem has them.
func (f *file) Truncate(size int64) error {
	return f.client.ask(func() error { return f.full(f.file.Truncate(size), 0) })
}

// Sync returns when the content is on stable storage. A host that cannot do that says so at the test of its pool; here it is no error.
func (f *file) Sync() error {
	if !f.client.canSync() {
		return nil
	}
	f.mu.Lock()
	last := f.on(len(f.lanes) - 1)
	f.mu.Unlock()
	return f.client.askFor(syncPatience, last.Sync)
}

// Close closes the file on all lanes.
func (f *file) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.client.ask(func() error {
		var err error
		for _, lane := range f.lanes {
			if lane != nil {
				err = errors.Join(err, lane.Close())
			}
		}
		return err
	})
}
