package local

import (
	"io/fs"
	"os"
	"path"
	"strconv"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// Link returns where a name leads: in the folder where that is so, otherwise as the link has it; empty for what is no link.
func (f *Folder) Link(name string) (string, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return "", err
	}
	info, err := f.root.Lstat(name)
	if err != nil || info.Mode().Type() != fs.ModeSymlink {
		return "", plain(err)
	}
	to, err := at(f.root, name, func(open *os.Root, raw string) (string, error) { return open.Readlink(raw) })
	to = storage.ShownName(to)
	if err == nil && !path.IsAbs(to) {
		to = path.Join(path.Dir(name), to)
	}
	return to, plain(err)
}

// Version is the generation of a file's inode (FS_IOC_GETVERSION), empty where the filesystem has none.
func (f *Folder) Version(name string) (string, error) {
	file, err := f.openPlain(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	const getVersion = 0x80087601 // linux/fs.h: _IOR('v', 1, long)
	n, err := unix.IoctlGetUint32(int(file.Fd()), getVersion)
	if err != nil {
		return "", nil
	}
	return strconv.FormatUint(uint64(n), 10), nil
}
