//go:build linux && !elsewhere

package local

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// sysBlock is where the kernel tells about block devices (Documentation/ABI/stable/sysfs-block).
const sysBlock = "/sys/dev/block"

// removable tells whether a device may be unplugged: the kernel says so of its medium, or it hangs on a bus for such. sys is sysBlock but
// for tests.
func removable(sys string, device uint64) bool {
	at, err := filepath.EvalSymlinks(filepath.Join(sys, fmt.Sprintf("%d:%d", unix.Major(device), unix.Minor(device))))
	if err != nil {
		return false // no device of its own, as with network filesystems
	}
	for _, dir := range []string{at, filepath.Dir(at)} { // of a partition, the whole disk tells
		b, err := os.ReadFile(filepath.Join(dir, "removable"))
		if err == nil && strings.TrimSpace(string(b)) == "1" {
			return true
		}
	}
	return strings.Contains(at, "/usb") || strings.Contains(at, "/mmc_host/")
}
