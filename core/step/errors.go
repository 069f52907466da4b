package step

import (
	"errors"
	"fmt"

	"bagaglio/core/plan"
)

var (
	// ErrNotProven is the error for a comparison that found a difference.
	ErrNotProven = errors.New("not proven")
	// ErrBlocked is the error for a plan that a check blocks.
	ErrBlocked = errors.New("a check stands in the way")
	// ErrInUse is the error for a disk that another program has open for writing, or has locked.
	ErrInUse = errors.New("it is in use")
	// ErrEnough ends a job as it is: nothing is taken back, and no step that is left is done.
	ErrEnough = errors.New("it ends here")
	// ErrSetAside is the cause to stop a job with that is to go on later: what it did stays.
	ErrSetAside = errors.New("set aside")
)

// BlockedError is the error for a check that stands in the way of a task which has begun: it can go on when that is settled.
type BlockedError struct{ Check plan.Check }

func (e *BlockedError) Error() string { return fmt.Sprintf("%v: %s", ErrBlocked, e.Check.Message) }

// Is makes it an ErrBlocked, and an ErrInUse where it is that.
func (e *BlockedError) Is(target error) bool {
	return target == ErrBlocked || target == ErrInUse && e.inUse()
}

// Passes tells whether it may be settled without anybody doing anything for it.
func (e *BlockedError) Passes() bool { return e.inUse() || e.Check.Name == plan.Awaited }

func (e *BlockedError) inUse() bool { return e.Check.Name == "in-use" }
