//go:build linux && !elsewhere

package local

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"sync/atomic"
	"syscall"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// lease is a read lease (fcntl(2), F_SETLEASE): the kernel stops whoever opens the file for writing until we let go of it, which is at
// once.
type lease struct {
	file   *os.File
	broken atomic.Bool
}

// leases are those that are held by this process.
var leases struct {
	mu   sync.Mutex
	held map[*lease]struct{}
	wake chan os.Signal // SIGIO says that one is to be let go of
}

// Lease takes a lease on a file.
func (f *Folder) Lease(name string) (storage.Lease, error) {
	syscall.ForkLock.RLock() // see [Folder.InUse]
	defer syscall.ForkLock.RUnlock()
	file, err := f.openPlain(name)
	if err != nil {
		return nil, err
	}
	l := &lease{file: file}
	leases.mu.Lock()
	defer leases.mu.Unlock()
	if leases.wake == nil {
		leases.wake, leases.held = make(chan os.Signal, 1), map[*lease]struct{}{}
		signal.Notify(leases.wake, syscall.SIGIO)
		go letGo(leases.wake)
	}
	if err := takeLease(int(file.Fd())); err != nil { // somebody has it open for writing, or the storage or the user cannot have leases
		return nil, errors.Join(fmt.Errorf("%w: %w", errors.ErrUnsupported, err), file.Close())
	}
	leases.held[l] = struct{}{}
	return l, nil
}

// letGo lets go of leases that somebody is waiting for.
func letGo(wake <-chan os.Signal) {
	for range wake {
		leases.mu.Lock()
		for l := range leases.held {
			l.look()
		}
		leases.mu.Unlock()
	}
}

// look lets go of a lease that is to be. The lock is held.
func (l *lease) look() {
	now, err := unix.FcntlInt(l.file.Fd(), unix.F_GETLEASE, 0)
	if l.broken.Load() || err == nil && now == unix.F_RDLCK {
		return
	}
	l.broken.Store(true)
	_, _ = unix.FcntlInt(l.file.Fd(), unix.F_SETLEASE, unix.F_UNLCK) // the kernel does so by itself, but later
}

// Broken tells whether somebody has opened the file for writing since.
func (l *lease) Broken() bool {
	leases.mu.Lock()
	defer leases.mu.Unlock()
	l.look()
	return l.broken.Load()
}

// Close gives the lease back.
func (l *lease) Close() error {
	leases.mu.Lock()
	defer leases.mu.Unlock()
	delete(leases.held, l)
	return l.file.Close()
}
