package host

import (
	"context"
	"time"

	"bagaglio/core/machine"
)

// Layerer is a host that changes what the disks of a machine which runs are stored in, while its guest goes on. Each looks first: what is so
// already is no error, and what an earlier call left half done is gone on with. A guest may be halted for a moment: who is cut off then finds it
// suspended, and lets it go on. They tell for how long the guest stood still at most.
type Layerer interface {
	// Cover puts a new image on each disk, all at one moment: from then on the guest writes to those, and what lies below is as a power cut would
	// leave it. Layers are the files of the new images, by the slots of the disks; they are there, stand on what they cover, and have nothing of their own. AtRest has the agent in the guest
	// put its filesystems at rest for that moment, and fails with ErrRefused where there is none.
	Cover(ctx context.Context, m Machine, layers map[string]string, atRest bool) (halted time.Duration, err error)
	// Merge writes what lies above a file of a disk down into it, and has the guest go on from that. What lay above belongs to nothing then.
	Merge(ctx context.Context, m Machine, slot, into string) (halted time.Duration, err error)
	// Fold writes what the images of a disk hold, from one that its guest does not write to down to another one, into that: those above stand on it then, and what lay
	// between belongs to nothing.
	Fold(ctx context.Context, m Machine, slot, from, into string) error
	// Mirror copies the topmost image of a disk to another one that is there and stands on what has the content of all below it, and has the guest
	// go on from that.
	Mirror(ctx context.Context, m Machine, slot string, to machine.Disk) (halted time.Duration, err error)
	// GiveUp ends what an earlier Merge, Fold or Mirror of a disk began and did not finish: the guest goes on from what it has.
	GiveUp(ctx context.Context, m Machine, slot string) error
	// Layers are the files that a disk is stored in, the topmost first.
	Layers(ctx context.Context, m Machine, slot string) ([]string, error)
}

// Saver is a host that writes what a machine has in memory to a file, and has it go on from there, also one of another host.
type Saver interface {
	// Save halts a machine, writes its memory to a file of the host, and switches it off. One that an earlier call saved to that file is no error; any other that is off
	// is, ErrRefused.
	Save(ctx context.Context, m Machine, file string) error
	// Restore has a machine that is off go on from such a file as what it is now: its disks lie elsewhere, with what they had then, and nothing else is different. It is
	// not asked for twice with one file: what the guest has written since would not fit.
	Restore(ctx context.Context, m Machine, file string, is machine.Machine) error
}

// Export is where a disk is served over the open block protocol (core/nbd), as a host reaches it: a socket of its computer, or an address. Over is the file of an image
// on the host which is as large, has nothing of its own, and gets what is written.
type Export struct {
	Socket, Address, Name string
	Over                  string
}

// Borrower is a host that keeps machines whose disks are read from exports until they have their own.
type Borrower interface {
	// Borrow makes a machine known by its definition, whose disks of these slots are read from exports. A guest that cannot read or write is suspended, and goes on with Resume.
	Borrow(ctx context.Context, definition []byte, disks map[string]Export) (Machine, error)
}

// Trier is a host that starts machines for trying out, which it does not keep.
type Trier interface {
	// Try starts a machine whose disks are read from exports, by their slots. It is there until end is called; a host that notices ends it with the connection too.
	Try(ctx context.Context, is machine.Machine, disks map[string]Export) (m Machine, end func(context.Context) error, err error)
}
