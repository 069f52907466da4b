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
	_ = unix.Flock(fd, unix.LOCK_UN)                                // closing does so too
	lock := unix.Flock_t{Type: unix.F_WRLCK, Whence: unix.SEEK_SET} // would a lock of everything be granted?
	if err := unix.FcntlFlock(uintptr(fd), unix.F_OFD_GETLK, &lock); err == nil && lock.Type != unix.F_UNLCK {
		if lock.Pid > 0 {
			return fmt.Sprintf("process %d has locked a part of it", lock.Pid)
		}
		return "another program has locked a part of it"
	}
	if err := takeLease(fd); errors.Is(err, unix.EAGAIN) {
		return "another program has it open for writing"
	}
	_, _ = unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_UNLCK) // likewise
	return ""
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
