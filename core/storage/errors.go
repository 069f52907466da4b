package storage

import (
	"errors"
	"io/fs"
	"syscall"
)

// Transient tells whether an error may go away when the same is tried again.
func Transient(err error) bool {
	return is(
		err,
		syscall.EIO,
		remoteIO,
		syscall.ETIMEDOUT,
		syscall.EAGAIN,
		syscall.EBUSY,
		syscall.EINTR,
		syscall.ECONNRESET,
		syscall.ENOBUFS,
	)
}

// Unreadable tells whether an error says that a range of a file cannot be read, while others may be.
func Unreadable(err error) bool {
	return is(err, syscall.EIO, remoteIO, syscall.ENODATA, syscall.EILSEQ, syscall.EBADMSG)
}

// Full tells whether an error says that there is no room left.
func Full(err error) bool { return is(err, syscall.ENOSPC, syscall.EDQUOT) }

// ErrLost is the error for storage that is not the one it was: its drive was pulled, or is not mounted.
var ErrLost = errors.New("the storage is not there")

// Lost tells whether an error says that the storage went away.
func Lost(err error) bool {
	return is(
		err,
		ErrLost,
		syscall.ENODEV,
		syscall.ENXIO,
		syscall.ESTALE,
		syscall.ENOTCONN,
		syscall.EHOSTDOWN,
		syscall.ESHUTDOWN,
		syscall.ETIMEDOUT,
		syscall.ECONNRESET,
	)
}

// Unwritable tells whether an error of storage that was written to before says that this does not work any more.
func Unwritable(err error) bool {
	return Lost(err) || is(err, syscall.EIO, remoteIO, syscall.EROFS, fs.ErrNotExist)
}

func is(err error, any ...error) bool {
	for _, a := range any {
		if errors.Is(err, a) {
			return true
		}
	}
	return false
}
