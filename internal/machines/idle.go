package machines

import (
	"context"
	"errors"
	"io"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
)

// idle runs nothing: what a host can do that runs machines fails with errors.ErrUnsupported, but for what is so already.
type idle struct{}

// Start starts nothing.
func (idle) Start(context.Context, host.Machine) error { return errors.ErrUnsupported }

// ShutDown has nothing to do: it is off.
func (idle) ShutDown(context.Context, host.Machine) error { return nil }

// CutOff likewise.
func (idle) CutOff(context.Context, host.Machine) error { return nil }

// Screen shows nothing.
func (idle) Screen(context.Context, host.Machine) ([]byte, error) { return nil, errors.ErrUnsupported }

// Signs are of nothing.
func (idle) Signs(context.Context, host.Machine) (host.Signs, error) {
	return host.Signs{}, errors.ErrUnsupported
}

// Suspend has nothing to halt.
func (idle) Suspend(context.Context, host.Machine) error { return errors.ErrUnsupported }

// Resume likewise.
func (idle) Resume(context.Context, host.Machine) error { return errors.ErrUnsupported }

// Listen hears nothing.
func (idle) Listen(context.Context, host.Machine, io.Writer) error { return errors.ErrUnsupported }

// StartWithHost is what its definition says, or nothing.
func (idle) StartWithHost(context.Context, host.Machine, bool) error { return errors.ErrUnsupported }

// Questions are none.
func (idle) Questions(context.Context, host.Machine) ([]host.Question, error) {
	return nil, errors.ErrUnsupported
}

// Answer answers none.
func (idle) Answer(context.Context, host.Machine, string, string) error {
	return errors.ErrUnsupported
}

// Look has nothing to do: files are looked at when they are asked for.
func (idle) Look(context.Context) error { return errors.ErrUnsupported }

// Attach gives nothing.
func (idle) Attach(context.Context, host.Machine, machine.Disk) error { return errors.ErrUnsupported }

// Detach takes nothing.
func (idle) Detach(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Snapshots are none.
func (idle) Snapshots(context.Context, host.Machine) ([]host.Snapshot, error) {
	return nil, errors.ErrUnsupported
}

// Take keeps nothing.
func (idle) Take(context.Context, host.Machine, host.Taking) error { return errors.ErrUnsupported }

// GoBack has nothing to go back to.
func (idle) GoBack(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Drop has nothing to forget.
func (idle) Drop(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Adopt takes none over.
func (idle) Adopt(context.Context, host.Machine, host.Snapshot) error { return errors.ErrUnsupported }

// Disown has none.
func (idle) Disown(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Cover fails: it has none that run. So do the others.
func (idle) Cover(context.Context, host.Machine, map[string]string, bool) (time.Duration, error) {
	return 0, errors.ErrUnsupported
}

// Merge likewise.
func (idle) Merge(context.Context, host.Machine, string, string) (time.Duration, error) {
	return 0, errors.ErrUnsupported
}

// Save fails: nothing is in memory there.
func (idle) Save(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Restore fails likewise.
func (idle) Restore(context.Context, host.Machine, string, machine.Machine) error {
	return errors.ErrUnsupported
}

// Borrow fails: nothing is started there.
func (idle) Borrow(context.Context, []byte, map[string]host.Export) (host.Machine, error) {
	return host.Machine{}, errors.ErrUnsupported
}

// Fold likewise.
func (idle) Fold(context.Context, host.Machine, string, string, string) error {
	return errors.ErrUnsupported
}

// Mirror likewise.
func (idle) Mirror(context.Context, host.Machine, string, machine.Disk) (time.Duration, error) {
	return 0, errors.ErrUnsupported
}

// GiveUp likewise.
func (idle) GiveUp(context.Context, host.Machine, string) error { return errors.ErrUnsupported }

// Layers likewise.
func (idle) Layers(context.Context, host.Machine, string) ([]string, error) {
	return nil, errors.ErrUnsupported
}
