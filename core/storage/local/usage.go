//go:build linux && !elsewhere

package local

import (
	"errors"
	"fmt"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// InUse asks the kernel whether another program holds a file: by flock(2), by a lock of a range (fcntl(2)), or by having it open for
// writing, which a read lease tells that is taken for a moment. No process of ours is started meanwhile: it has all that we have open
// until it runs.
func (f *Folder) InUse(name string) (string, error) {
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	file, err := f.openPlain(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	conn, err := file.SyscallConn()
	if err != nil {
		return "", err
	}
	var why string
	err = conn.Control(func(fd uintptr) { why = heldBy(int(fd)) })
	return why, err
}

// heldBy says in words who holds an open file. What the storage cannot tell is not known.
func heldBy(fd int) string {
	if errors.Is(unix.Flock(fd, unix.LOCK_SH|unix.LOCK_NB), unix.EWOULDBLOCK) {
		return "another program has locked it"
	}
	_ = unix.Flock(fd, unix.LOCK_UN) // closing does so too
	lock, locked := lockedBy(fd, unix.F_RDLCK, 0, 0)
	if !locked && !isOnlyRead(fd) {
		lock, locked = lockedBy(fd, unix.F_WRLCK, 0, 0)
	}
	if locked && lock.Pid > 0 {
		return fmt.Sprintf("process %d has locked a part of it", lock.Pid)
	}
	if locked {
		return "another program has locked a part of it"
	}
	if err := takeLease(fd); errors.Is(err, unix.EAGAIN) {
		return "another program has it open for writing"
	}
	_, _ = unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_UNLCK) // likewise
	return ""
}

// lockedBy is a lock of another program that stands in the way of one of a kind on a range; of length 0 it is everything.
func lockedBy(fd int, kind int16, off, n int64) (lock unix.Flock_t, locked bool) {
	lock = unix.Flock_t{Type: kind, Whence: unix.SEEK_SET, Start: off, Len: n}
	err := unix.FcntlFlock(uintptr(fd), unix.F_OFD_GETLK, &lock)
	return lock, err == nil && lock.Type != unix.F_UNLCK
}

// The emulator locks single bytes of images for reading, whatever it does with them: those from permissions on for what it does, those from others on for
// what nobody else may do (its documentation, "Disk image file locking"). The second of each is to write.
const (
	permissions, others, written = 100, 200, 1
	allOfThem                    = 64 // of each
)

// isOnlyRead tells whether all that has locked a file is an emulator that reads it, as it does with what a disk stands on.
func isOnlyRead(fd int) bool {
	_, reads := lockedBy(fd, unix.F_WRLCK, permissions, allOfThem)
	_, writes := lockedBy(fd, unix.F_WRLCK, permissions+written, 1)
	_, before := lockedBy(fd, unix.F_WRLCK, 0, permissions)
	_, between := lockedBy(fd, unix.F_WRLCK, permissions+allOfThem, others-permissions-allOfThem)
	_, behind := lockedBy(fd, unix.F_WRLCK, others+allOfThem, 0)
	return reads && !writes && !before && !between && !behind
}

// startsWithin is for how long a process that begins to run may still have open what it closes then.
const startsWithin = 100 * time.Millisecond

// takeLease takes a read lease, which fails with EAGAIN where somebody keeps the file open for writing.
func takeLease(fd int) error {
	for until := time.Now().Add(startsWithin); ; time.Sleep(time.Millisecond) {
		_, err := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_RDLCK)
		if !errors.Is(err, unix.EAGAIN) || time.Now().After(until) {
			return err
		}
	}
}
