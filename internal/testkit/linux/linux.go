// Package linux makes the disk of a real guest for tests, which starts under BIOS and UEFI and says whether its content is as it was.
package linux

import (
	_ "embed"
	"os/exec"
	"path/filepath"
	"strings"
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
	disk := filepath.Join(t.TempDir(), "linux.raw")
	out, err := exec.Command("bash", "-c", script, "make.sh", disk).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return disk
}
