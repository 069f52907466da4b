package storage

import "slices"

// Unknown is a size that the storage does not tell.
const Unknown = -1

// Space tells how much room a folder's storage has and what it can hold. Sizes are in bytes.
type Space struct {
	Kind        string // of filesystem, as the operating system names it
	Total       int64  // or Unknown
	Free        int64  // what can still be written by this user, or Unknown
	LargestFile int64  // 0 when nothing is known of a limit
	ReadOnly    bool
	Served      bool   // by a server that is only read from
	Holes       bool   // keeps holes in files
	Removable   bool   // may be unplugged
	Mounted     bool   // lies on another filesystem than the computer's own
	MountPoint  string // where that filesystem begins, empty where the storage cannot tell
	ID          string // the same for two folders on one filesystem
}

// noModes are filesystems, as the operating system names them, that keep neither owner and mode nor extended attributes of files.
var noModes = []string{"vfat", "msdos", "exfat"}

// NoModes tells whether a kind of filesystem keeps no owner, mode and extended attributes.
func NoModes(kind string) bool { return slices.Contains(noModes, kind) }

// NoHoles are filesystems, as tools of several systems name them, that keep none in files, as far as is known.
var NoHoles = map[string]bool{
	"fat":     true,
	"msdos":   true,
	"vfat":    true,
	"exfat":   true,
	"fuse":    true,
	"fuseblk": true,
	"hfs":     true,
	"hfs+":    true,
	"isofs":   true,
	"smb":     true,
	"smb2":    true,
	"cifs":    true,
}
