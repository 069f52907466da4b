//go:build linux && !elsewhere

package adapt

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// needed are the folders of the system that are used beside the scratch folder: programs, what those need, and devices.
var needed = []string{"/usr", "/bin", "/sbin", "/lib", "/lib64", "/etc", "/dev", "/proc", "/sys"}

// apart runs do on a thread that has its mounts for itself (unshare(2)), and of those of the system no more than it needs, beside a folder: one that was kept would stay mounted
// here when somebody unmounts it, and what was written to it not be on its drive. All are gone when it returns, or the process ends.
func apart(ctx context.Context, dir string, do func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // for good: the thread ends with this goroutine
		err := unix.Unshare(unix.CLONE_FS | unix.CLONE_NEWNS)
		if err == nil {
			err = unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, "")
		}
		if err == nil {
			err = leaveMounts(append(slices.Clone(needed), dir))
		}
		if err != nil {
			done <- fmt.Errorf("taking mounts for itself: %w", err)
			return
		}
		done <- do()
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done(): // what hangs in the kernel is left to it
		return context.Cause(ctx)
	}
}

// leaveMounts lets go of all mounts but those that folders lie in.
func leaveMounts(folders []string) error {
	for i, name := range folders {
		if real, err := filepath.EvalSymlinks(name); err == nil {
			folders[i] = real
		}
	}
	file, err := os.Open("/proc/thread-self/mountinfo")
	if err != nil {
		return err
	}
	defer file.Close()
	var points []string
	for lines := bufio.NewScanner(file); lines.Scan(); {
		if fields := strings.Fields(lines.Text()); len(fields) > mountPoint {
			points = append(points, unescaped(fields[mountPoint]))
		}
	}
	for _, at := range slices.Backward(points) { // what lies over others first
		lies := func(name string) bool { return at == "/" || name == at || strings.HasPrefix(name, at+"/") }
		if slices.ContainsFunc(folders, lies) {
			continue
		}
		_ = unix.Unmount(at, unix.MNT_DETACH) // it may have gone with the one that it lies in
	}
	return nil
}

// mountPoint is the field with that in a line of mountinfo (proc_pid_mountinfo(5)), whose spaces and the like are written as numbers.
const mountPoint = 4

func unescaped(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+4 <= len(text) {
			if n, err := strconv.ParseUint(text[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(text[i])
	}
	return b.String()
}
