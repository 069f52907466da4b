// Package linux makes the disk of a real guest for tests, which starts under BIOS and UEFI and says whether its content is as it was.
package linux

import (
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

//go:embed make.sh
var script string

// Up is what the guest says of itself on its serial port when it is up: the firmware that it was started by, whether what it knows is as it
// was, how often it was started, and that none of the lines is missing that it added to its log all the while.
func Up(firmware, known, starts string) string {
	return "GUEST-UP firmware=" + firmware + " known=" + known + " starts=" + starts + " log=whole"
}

// Disk makes the disk, a raw image, and skips the test where what that takes is missing.
func Disk(t testing.TB) string {
	t.Helper()
	for tool, of := range map[string]string{
		"apt-get": "apt", "dpkg-deb": "dpkg", "busybox": "busybox-static", "cpio": "cpio", "grub-mkimage": "grub-common", "mcopy": "mtools",
		"/sbin/depmod": "kmod", "/sbin/mkfs.ext4": "e2fsprogs", "/sbin/mkfs.vfat": "dosfstools", "/sbin/sfdisk": "fdisk",
	} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing: apt-get install %s", tool, of)
		}
	}
	for file, of := range map[string]string{"i386-pc/boot.img": "grub-pc-bin", "x86_64-efi/kernel.img": "grub-efi-amd64-bin"} {
		if found, _ := filepath.Glob("/usr/lib/grub/" + file); len(found) == 0 {
			t.Skipf("%s is missing: apt-get install %s", file, of)
		}
	}
	if out, err := exec.Command("apt-cache", "show", "linux-image-cloud-amd64").CombinedOutput(); err != nil {
		t.Skipf("no kernel is known to the system's packages: %s", strings.TrimSpace(string(out)))
	}
	content, err := made()
	require.NoError(t, err)
	disk := filepath.Join(t.TempDir(), "linux.raw")
	require.NoError(t, os.WriteFile(disk, content, 0o600))
	return disk
}

// made is its content, which takes a while to make.
var made = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "linux-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }() // the temporary folder may be cleared by others
	disk := filepath.Join(dir, "linux.raw")
	if out, err := exec.Command("bash", "-c", script, "make.sh", disk).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return os.ReadFile(disk)
})
