package local

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Where says where a folder lies, whatever it is called: on which filesystem, and at which path inside of it. Links are followed, and a bind mount
// is what it was made of.
type Where struct {
	Device string // of the filesystem, as major:minor
	Path   string
}

// mountTable is where the kernel tells what is mounted (proc_pid_mountinfo(5)).
const mountTable = "/proc/self/mountinfo"

// Find says where a folder lies, which must exist.
func Find(dir string) (w Where, err error) {
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return w, err
	}
	var x unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, dir, 0, unix.STATX_MNT_ID, &x); err != nil {
		return w, &os.PathError{Op: "statx", Path: dir, Err: err}
	}
	table, err := os.Open(mountTable)
	if err != nil {
		return w, err
	}
	defer table.Close()
	for lines := bufio.NewScanner(table); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 5 || fields[0] != strconv.FormatUint(x.Mnt_id, 10) {
			continue
		}
		below, err := filepath.Rel(unescape(fields[4]), dir)
		if err != nil {
			return w, err
		}
		return Where{fields[2], filepath.Join(unescape(fields[3]), below)}, nil
	}
	return w, fmt.Errorf("what %s is mounted from is not known", dir)
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

// In tells whether a folder is another one, or lies below it.
func (w Where) In(o Where) bool {
	return w.Device == o.Device && (w.Path == o.Path || o.Path == "/" || strings.HasPrefix(w.Path, o.Path+"/"))
}
