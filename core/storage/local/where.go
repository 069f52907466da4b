//go:build linux && !elsewhere

package local

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Where says where a folder lies, whatever it is called: on which filesystem, and at which path inside of it. Links are followed, and a
// bind mount is what it was made of.
type Where struct {
	Device string // of the filesystem, as major:minor
	Path   string
	on     *Where // where the mount that it was found in is mounted, nil for the root
}

// mountTable is where the kernel tells what is mounted (proc_pid_mountinfo(5)).
const mountTable = "/proc/self/mountinfo"

// mount is a line of it.
type mount struct {
	id, parent string
	device     string
	root, at   string // which part of the filesystem lies where
}

func mounts() (all []mount, err error) {
	table, err := os.Open(mountTable)
	if err != nil {
		return nil, err
	}
	defer table.Close()
	lines := bufio.NewScanner(table)
	for lines.Scan() {
		if f := strings.Fields(lines.Text()); len(f) >= 5 {
			all = append(all, mount{f[0], f[1], f[2], unescape(f[3]), unescape(f[4])})
		}
	}
	return all, lines.Err()
}

// mountID is the number of the mount that a path lies in.
func mountID(path string) (string, error) {
	var x unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, path, 0, unix.STATX_MNT_ID, &x); err != nil {
		return "", &os.PathError{Op: "statx", Path: path, Err: err}
	}
	return strconv.FormatUint(x.Mnt_id, 10), nil
}

// Find says where a folder lies, which must exist.
func Find(dir string) (Where, error) {
	w, _, err := find(dir)
	return w, err
}

func find(dir string) (w Where, all []mount, err error) {
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return w, nil, err
	}
	id, err := mountID(dir)
	if err != nil {
		return w, nil, err
	}
	if all, err = mounts(); err != nil {
		return w, nil, err
	}
	if found := placed(all, id, dir, len(all)); found != nil {
		return *found, all, nil
	}
	return w, nil, fmt.Errorf("what %s is mounted from is not known", dir)
}

// placed is where a path lies that is in a mount, and what that is mounted on, so many mounts deep at most.
func placed(all []mount, id, dir string, deep int) *Where {
	for _, m := range all {
		if m.id != id || deep == 0 {
			continue
		}
		below, err := filepath.Rel(m.at, dir)
		if err != nil {
			return nil
		}
		return &Where{m.device, filepath.Join(m.root, below), placed(all, m.parent, m.at, deep-1)}
	}
	return nil
}

// Canonical is one name for a file of this computer that may have several, by links and bind mounts of folders; of what is not there yet,
// by the folder that it will lie in. Where that cannot be told, it is the name as it is.
func Canonical(file string) string {
	for dir, rest := filepath.Dir(file), filepath.Base(file); ; dir, rest = filepath.Dir(dir), filepath.Join(filepath.Base(dir), rest) {
		w, all, err := find(dir)
		if errors.Is(err, fs.ErrNotExist) && dir != "/" {
			continue
		}
		if err != nil {
			return file
		}
		best := mount{root: w.Path + "/more"} // longer than any that the folder lies in
		for _, m := range all {
			if w.below(m.device, m.root) && len(m.root) < len(best.root) {
				best = m
			}
		}
		below, err := filepath.Rel(best.root, w.Path)
		if err != nil || best.at == "" {
			return file
		}
		return filepath.Join(best.at, below, rest)
	}
}

// unescape turns what the table writes as octal numbers back into characters.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// Is tells whether a folder is another one.
func (w Where) Is(o Where) bool { return w.Device == o.Device && w.Path == o.Path }

// In tells whether a folder is another one, or lies below it, also on a filesystem that is mounted there.
func (w Where) In(o Where) bool {
	return w.below(o.Device, o.Path) || w.on != nil && w.on.In(o)
}

// below tells whether it lies in a folder of its own filesystem.
func (w Where) below(device, path string) bool {
	return w.Device == device && (w.Path == path || path == "/" || strings.HasPrefix(w.Path, path+"/"))
}
