package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"
)

// partSize is how much goes over one lane at once, in bytes.
const partSize = 1 << 20

// file is an open file of a host. What it reads and writes goes in parts over several lanes, each in packets that wait for their answers
// together.
type file struct {
	client *client
	file   *sftp.File // on the first lane
	name   string
	flags  int

	lanes []lane
	next  atomic.Uint32 // whose turn it is
	dirty atomic.Bool   // something was done to it since it was synced
	sync  sync.Mutex    // whoever has nothing to sync waits for the one who does
}

// lane is a file on one of the channels to the host, where it is opened when it is first needed.
type lane struct {
	once sync.Once
	file *sftp.File
}

// on returns the file on a lane.
func (f *file) on(i int) *sftp.File {
	l := &f.lanes[i]
	l.once.Do(func() {
		l.file = f.file
		if i == 0 {
			return
		}
		opened, err := f.client.lanes[i].OpenFile(f.file.Name(), f.flags)
		if err != nil { // it may have been renamed meanwhile: the first lane has it all the same
			return
		}
		if f.flags == os.O_RDONLY && !same(opened, f.file) { // another file has its name now
			_ = opened.Close() // nothing was done with it
			return
		}
		l.file = opened
	})
	return l.file
}

// carry does something with each part of p. Parts begin in the order in which they are asked for, with only so much on its way at once: the
// blocks of several callers end one after the other, so that the line carries one while the next is being made.
func (f *file) carry(p []byte, off int64, do func(on *sftp.File, p []byte, off int64) (int, error)) (n int, err error) {
	type answer struct {
		n   int
		err error
	}
	parts := slices.Collect(slices.Chunk(p, partSize))
	answers := make([]answer, len(parts))
	var all sync.WaitGroup
	for i, part := range parts {
		size := int64(len(part))
		_ = f.client.onItsWay.Acquire(context.Background(), size) // fails only by the context
		on := int(
			f.next.Add(1),
		) % max(
			1,
			len(f.lanes)-1,
		) // the last one is for syncing, which keeps the host from answering on it meanwhile
		all.Go(func() {
			defer f.client.onItsWay.Release(size)
			a := &answers[i]
			a.n, a.err = do(f.on(on), part, off+int64(i)*partSize)
		})
	}
	all.Wait()
	for i, a := range answers {
		n += a.n
		if a.err != nil || a.n < len(parts[i]) {
			return n, a.err
		}
	}
	return n, nil
}

// same tells whether two open files are one, as far as the protocol tells.
func same(a, b *sftp.File) bool {
	var x, y os.FileInfo
	var errX, errY error
	var both sync.WaitGroup
	both.Go(func() { x, errX = a.Stat() })
	both.Go(func() { y, errY = b.Stat() })
	both.Wait()
	return errX == nil && errY == nil && alike(x, y)
}

func alike(x, y os.FileInfo) bool { return x.Size() == y.Size() && x.ModTime().Equal(y.ModTime()) }

// ReadAt reads. An answer that is short without a reason is an error: a host may say anything.
func (f *file) ReadAt(p []byte, off int64) (n int, err error) {
	var end error
	err = f.client.ask(func() (err error) {
		n, err = f.carry(p, off, (*sftp.File).ReadAt)
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
	defer f.dirty.Store(true) // also where only a part of it got there
	err = f.client.ask(func() (err error) {
		n, err = f.carry(p, off, (*sftp.File).WriteAt)
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
	defer f.dirty.Store(true)
	return f.client.ask(func() error { return f.full(f.file.Truncate(size), 0) })
}

// Sync returns when the content is on stable storage. A host that cannot do that says so at the test of its pool; here it is no error.
func (f *file) Sync() error {
	f.sync.Lock()
	defer f.sync.Unlock()
	if !f.client.canSync() || !f.dirty.Swap(false) { // what is on its way now is noted when it ends
		return nil
	}
	err := f.client.askFor(syncPatience, func() error { return f.on(len(f.lanes) - 1).Sync() })
	if err != nil {
		f.dirty.Store(true)
	}
	return err
}

// Close closes the file on all lanes.
func (f *file) Close() error {
	return f.client.ask(func() error {
		var all errgroup.Group
		all.Go(f.file.Close)
		for i := range f.lanes {
			if l := &f.lanes[i]; l.file != nil && l.file != f.file {
				all.Go(l.file.Close)
			}
		}
		return all.Wait()
	})
}
