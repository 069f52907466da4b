package host

import (
	"context"
	"io"
	"time"

	"bagaglio/core/machine"
)

// Suspender is a host that halts machines, with their memory kept and their writes on the disks, and lets them go on. What is so already is no
// error.
type Suspender interface {
	Suspend(ctx context.Context, m Machine) error
	// Resume lets one go on that is suspended. One that is off stays off, which is an error.
	Resume(ctx context.Context, m Machine) error
}

// Attacher is a host that gives machines disks, and takes them away. Files stay as they are.
type Attacher interface {
	// Attach gives a machine a disk, at the next slot of its bus that is free. It fails with ErrRefused where a running machine cannot get one.
	Attach(ctx context.Context, m Machine, d machine.Disk) error
	// Detach takes away the one of a slot, and fails with ErrRefused where there is none, or its guest does not let go.
	Detach(ctx context.Context, m Machine, slot string) error
}

// Listener is a host that passes on what machines write on their first serial port.
type Listener interface {
	// Listen writes it to w from now on, until ctx ends or the machine does, when it returns nil. It fails with ErrRefused for a machine that
	// has no such port, or whose port leads elsewhere.
	Listen(ctx context.Context, m Machine, w io.Writer) error
}

// Pool is a storage pool of a host's own.
type Pool struct {
	Name   string
	Folder string // its path on the host
}

// Pooler is a host that has storage pools of its own, in folders.
type Pooler interface {
	Pools(ctx context.Context) ([]Pool, error)
}

// Snapshot is a state of a machine that its host keeps.
type Snapshot struct {
	Name   string
	Parent string // the one that it was taken behind, empty for the first
	Notes  string
	Taken  time.Time
	// Present tells that the machine goes on from it.
	Present bool
	// Memory tells that it has what the guest had in memory; otherwise one that is gone back to is off.
	Memory bool
	// Definition is the text of the machine as it was then, nil where the host does not tell.
	Definition []byte
	// Files are those that have the content of disks as it was then, by the files that its definition names; a disk that is not among them has it as a
	// snapshot of that name inside of its image.
	Files map[string]string
	// Layers are the images that were put on these for it, by the files that its definition names: what came since is in them.
	Layers map[string]string
}

// Taking is how a state is kept.
type Taking struct {
	Name, Notes string
	// Disks tells that only they are kept, as a power cut would leave them.
	Disks bool
	// AtRest has the agent in the guest put its filesystems at rest for that moment.
	AtRest bool
}

// Snapshotter is a host that keeps states of machines.
type Snapshotter interface {
	// Snapshots lists them, older ones first.
	Snapshots(ctx context.Context, m Machine) ([]Snapshot, error)
	// Take keeps the present state. It fails with ErrRefused for a name that there is, or disks that keep none.
	Take(ctx context.Context, m Machine, t Taking) error
	// GoBack makes a kept state the present one, which is lost.
	GoBack(ctx context.Context, m Machine, name string) error
	// Drop forgets a state. The present one, and others, stay as they are; it fails with ErrRefused where they could not.
	Drop(ctx context.Context, m Machine, name string) error
}

// Adopter is a host that can be told of states which lie inside of images of a machine, as another host kept them.
type Adopter interface {
	// Adopt makes one known, with Definition as it is to be here. One of that name that is known already is that one.
	Adopt(ctx context.Context, m Machine, s Snapshot) error
	// Disown has the host not know one any more, and leaves the images as they are.
	Disown(ctx context.Context, m Machine, name string) error
}
