//go:build linux && !elsewhere

package local

import (
	"fmt"
	"math"
	"path/filepath"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// filesystems: what is known of each by its magic number in statfs(2). largest is the longest file in bytes, 0 where the
// limit is beyond any disk.
var filesystems = map[int64]struct {
	name    string
	largest int64
}{
	unix.EXT4_SUPER_MAGIC:      {"ext4", 16<<40 - 4096},
	unix.XFS_SUPER_MAGIC:       {"xfs", 0},
	unix.BTRFS_SUPER_MAGIC:     {"btrfs", 0},
	unix.TMPFS_MAGIC:           {"tmpfs", 0},
	unix.OVERLAYFS_SUPER_MAGIC: {"overlay", 0},
	unix.MSDOS_SUPER_MAGIC:     {"fat", 4<<30 - 1},
	unix.EXFAT_SUPER_MAGIC:     {"exfat", 0},
	unix.FUSE_SUPER_MAGIC:      {"fuse", 0},
	unix.NFS_SUPER_MAGIC:       {"nfs", 0},
	unix.SMB2_SUPER_MAGIC:      {"smb", 0},
	unix.F2FS_SUPER_MAGIC:      {"f2fs", 0},
}

// mountPoint is the top of the filesystem that a folder lies on, empty where that cannot be looked at.
func mountPoint(dir string) string {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return ""
	}
	var at unix.Stat_t
	if err := unix.Stat(dir, &at); err != nil {
		return ""
	}
	for dir != "/" {
		var above unix.Stat_t
		if err := unix.Stat(filepath.Dir(dir), &above); err != nil || above.Dev != at.Dev {
			break
		}
		dir = filepath.Dir(dir)
	}
	return dir
}

// Space tells how much room the folder's filesystem has, and what it can hold.
func (f *Folder) Space() (storage.Space, error) {
	dir, err := f.root.Open(".")
	if err != nil {
		return storage.Space{}, err
	}
	defer dir.Close()
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(dir.Fd()), &st); err != nil {
		return storage.Space{}, fmt.Errorf("asking for the room in %s: %w", f.root.Name(), err)
	}
	s := storage.Space{
		Total:    int64(st.Blocks) * st.Bsize,
		Free:     int64(st.Bavail) * st.Bsize,
		ReadOnly: st.Flags&unix.ST_RDONLY != 0 || unix.Faccessat(int(dir.Fd()), ".", unix.W_OK, 0) != nil,
		ID:       fmt.Sprintf("%x", st.Fsid.Val),
	}
	var at unix.Stat_t
	if err := unix.Fstat(int(dir.Fd()), &at); err == nil {
		s.Removable = removable(sysBlock, at.Dev)
	}
	var system unix.Statfs_t
	if err := unix.Statfs("/", &system); err == nil {
		s.Mounted = system.Fsid != st.Fsid || system.Type != st.Type
	}
	s.MountPoint = mountPoint(f.root.Name())
	if known, ok := filesystems[st.Type]; ok {
		s.Kind, s.LargestFile, s.Holes = known.name, known.largest, !storage.NoHoles[known.name]
	} else {
		s.Kind = fmt.Sprintf("0x%x", st.Type)
	}
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_FSIZE, &limit); err == nil && limit.Cur <= math.MaxInt64 {
		if s.LargestFile == 0 || int64(limit.Cur) < s.LargestFile {
			s.LargestFile = int64(limit.Cur)
		}
	}
	return s, nil
}
