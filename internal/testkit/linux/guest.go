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

//go:embed guest.sh
var guestScript string

// Layout is how the disk of a guest is laid out.
type Layout struct {
	Maker   string // of its initial memory disk: initramfs-tools or dracut
	Modules string // drivers that this has, besides ext4
	Root    string // what it calls the filesystem that it runs from: uuid, or a device as /dev/sda3
	Kernel  string // the package that depends on it; empty for the one for machines
}

// Says is what such a guest says on its serial port when it is up.
func Says(firmware, mounts, network string) string {
	return "GUEST-UP firmware=" + firmware + " known=same mounts=" + mounts + " network=" + network
}

// Guest makes the disk of a guest that is laid out as Debian lays one out, a raw image, and skips the test where what that takes is missing.
func Guest(t testing.TB, l Layout) string {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("making the disk of a guest takes root")
	}
	for tool, of := range map[string]string{
		"apt-get": "apt", "dpkg-deb": "dpkg", "busybox": "busybox-static", "cpio": "cpio", "zstd": "zstd", "grub-mkimage": "grub-common", "mcopy": "mtools",
		"/sbin/depmod": "kmod", "/sbin/mkfs.ext4": "e2fsprogs", "/sbin/mkfs.vfat": "dosfstools", "/sbin/sfdisk": "fdisk", "unshare": "util-linux",
	} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing: apt-get install %s", tool, of)
		}
	}
	if out, err := exec.CommandContext(t.Context(), "apt-cache", "show", "initramfs-tools-core", "dracut-core", "linux-image-cloud-amd64").
		CombinedOutput(); err != nil {
		t.Skipf("what a guest is made of is not known to the system's packages: %s", strings.TrimSpace(string(out)))
	}
	content, err := guests.of(l)
	require.NoError(t, err)
	disk := filepath.Join(t.TempDir(), "guest.raw")
	require.NoError(t, os.WriteFile(disk, content, 0o600))
	return disk
}

// guests are those that were made, which takes a while.
var guests = &workshop{all: map[Layout]func() ([]byte, error){}}

type workshop struct {
	sync.Mutex
	all map[Layout]func() ([]byte, error)
}

func (m *workshop) of(l Layout) ([]byte, error) {
	m.Lock()
	if m.all[l] == nil {
		m.all[l] = sync.OnceValues(l.make)
	}
	do := m.all[l]
	m.Unlock()
	return do()
}

func (l Layout) make() ([]byte, error) {
	dir, err := os.MkdirTemp("", "guest-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }() // the temporary folder may be cleared by others
	disk := filepath.Join(dir, "guest.raw")
	cmd := exec.Command("unshare", "-m", "bash", "-c", guestScript, "guest.sh", disk, l.Maker, l.Modules, l.Root)
	cmd.Env = append(os.Environ(), "TMPDIR="+dir)
	if l.Kernel != "" {
		cmd.Env = append(cmd.Env, "KERNEL="+l.Kernel)
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return os.ReadFile(disk)
}
