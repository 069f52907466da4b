//go:build linux && !elsewhere

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

// Version is the generation of a file's inode (FS_IOC_GETVERSION) and when it came into being (statx, in nanoseconds since 1970), each left
// empty where the filesystem does not have it.
func (f *Folder) Version(name string) (string, error) {
	file, err := f.openPlain(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	var generation, born string
	const getVersion = 0x80087601 // linux/fs.h: _IOR('v', 1, long)
	if n, err := unix.IoctlGetUint32(int(file.Fd()), getVersion); err == nil {
		generation = strconv.FormatUint(uint64(n), 10)
	}
	var st unix.Statx_t
	if err := unix.Statx(int(file.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_BTIME, &st); err == nil && st.Mask&unix.STATX_BTIME != 0 {
		born = strconv.FormatInt(st.Btime.Sec*1e9+int64(st.Btime.Nsec), 10)
	}
	return generation + storage.VersionPart + born, nil
}
