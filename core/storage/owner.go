package storage

import (
	"fmt"
	"io/fs"
	"strconv"
)

// KindOf says in a word what something is that is no regular file.
func KindOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "folder"
	case m&fs.ModeDevice != 0:
		return "device"
	case m&fs.ModeSymlink != 0:
		return "link"
	case m&fs.ModeNamedPipe != 0:
		return "pipe"
	}
	return "special file"
}

// ParseOwner reads an owner that is written as numbers, UID:GID.
func ParseOwner(owner string) (uid, gid int, err error) {
	if _, err := fmt.Sscanf(owner, "%d:%d", &uid, &gid); err != nil {
		return 0, 0, fmt.Errorf("the owner %q is written as numbers, UID:GID", owner)
	}
	return uid, gid, nil
}

// FormatMode writes a mode as ParseMode reads it.
func FormatMode(m fs.FileMode) string { return fmt.Sprintf("%04o", m.Perm()) }

// ParseMode reads a mode that is written octal.
func ParseMode(mode string) (fs.FileMode, error) {
	bits, err := strconv.ParseUint(mode, 8, 12)
	if err != nil {
		return 0, fmt.Errorf("the mode %q is written octal, such as 0640", mode)
	}
	return fs.FileMode(bits), nil
}
