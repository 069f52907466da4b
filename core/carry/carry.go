// Package carry has what a job can carry: a disk as an image of a format, or the files of one as they are. Whoever moves the bytes and proves
// them sees a disk.Reader and a disk.Writer either way.
package carry

import (
	"context"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// Ends are where something comes from and goes to.
type Ends struct {
	Source, Destination storage.Folder
	Staging             string // the folder of the destination in which it is made
	Changed             string // the folder of this computer with what was made to fit, or was read of a disk that fails
	// Failing is that disk, nil where there is none.
	Failing disk.Reader
}

// Source is what is read.
type Source interface {
	// Open opens it. The caller closes it.
	Open(ctx context.Context) (disk.Reader, error)
}

// Sink is what is made.
type Sink interface {
	// Dir is the folder of the destination that the files get their names in, when they are proven.
	Dir() string
	// Size is how long what is made is, in bytes of what is read.
	Size() int64
	// Create begins it.
	Create(t disk.Target) (disk.Writer, error)
	// Resume takes up what Create began, with what it was given then (see disk.Resume).
	Resume(t disk.Target, given func(yield func(disk.Written, error) bool)) (disk.Writer, error)
	// Made opens what was made, in the staging folder, to be read from storage. The caller closes it.
	Made(ctx context.Context) (disk.Reader, error)
	// Own are those of the files that were made which are the image itself, and not what it stands on or what speaks of it.
	Own(made []string) []string
}

// Carrier is both. One that carries the content of the guest reads what a guest sees of the disk; otherwise that is told by reading the
// disk once more.
type Carrier interface {
	Source
	Sink
	Guest() bool
}

// Of returns what carries a disk as it was planned.
func Of(d plan.Disk, e Ends) Carrier {
	if d.Request.Kind == plan.Copy {
		return files{d, e}
	}
	return image{d, e}
}
