package step

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"syscall"

	"bagaglio/core/host"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// advice says what to do about errors of the operating system, which by themselves only say what happened.
var advice = []struct {
	err error
	say string
}{
	{syscall.ENOSPC, "the destination is full: make room or choose another pool, then start again"},
	{syscall.EDQUOT, "the quota at the destination is used up: make room or choose another pool, then start again"},
	{syscall.EFBIG, "the destination cannot hold a file that large: choose another pool or a format that stays smaller"},
	{syscall.EROFS, "the destination is read-only: remount it writable or choose another pool"},
	{syscall.EIO, "the storage reports a fault: look at the kernel's log and copy what can be saved to another drive first"},
	{syscall.ESTALE, "the storage has gone away: connect it again, then start again"},
	{syscall.ENAMETOOLONG, "the name is too long for this filesystem: choose a shorter one"},
	{fs.ErrNotExist, "look at the name, and whether its storage is connected"},
	{fs.ErrPermission, "the user that runs Bagaglio may not do that there: change the owner or the mode"},
	{
		storage.ErrOutside,
		"files outside of the pool are never touched: add their folder as a pool of its own, or say in which folder names may lead about (--within)",
	},
	{context.Canceled, "it was stopped on request"},
}

// CanWait tells whether what went wrong may be right again later, so that a task which keeps records can go on then: there is no room,
// or the storage or host went away.
func CanWait(err error) bool {
	var destination *transfer.DestinationError
	return storage.Full(err) || storage.Lost(err) || errors.Is(err, host.ErrGone) || errors.As(err, &destination) && storage.Unwritable(err)
}

// Explain adds what to do next to an error.
func Explain(err error) error {
	for _, a := range advice {
		if errors.Is(err, a.err) {
			return fmt.Errorf("%w; %s", err, a.say)
		}
	}
	return err
}
