package storage

import (
	"context"
	"io"
)

// Tree is what lies in a folder, as a whole.
type Tree struct {
	Entries int64 // files, folders, links and whatever else it has
	Size    int64 // of its files together, in bytes
	Room    int64 // what they take of the storage, in bytes
	Sockets int64 // which no archive has: programs make them anew
	// Seen changes whenever something in the folder does. That the folder itself gets another name is no such thing.
	Seen string
	// Mounts are the names in it below which other filesystems lie.
	Mounts []string
}

// Trees is a Folder whose folders can be carried as a whole, with all that a filesystem keeps of what lies in them: owners, rights, times,
// links of both kinds, holes, devices, access lists and extended attributes.
type Trees interface {
	// Tree looks through a folder.
	Tree(ctx context.Context, name string) (Tree, error)
	// Pack writes what lies in a folder as one archive (pax: IEEE Std 1003.1-2017, pax), in the order of names. It fails when something is
	// written there meanwhile. What lies on other filesystems is left out. Fresh reads from the storage, not from a memory in front of it.
	Pack(ctx context.Context, name string, to io.Writer, fresh bool) error
	// Unpack makes a folder of such an archive, and returns when it is on stable storage. It never writes into one that exists.
	Unpack(ctx context.Context, name string, from io.Reader) error
}
