//go:build linux && !elsewhere

package local

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestRemovable reads the kernel's tree as it looks for an inner disk, a stick, its partition, a drive on a bus for such, and none.
func TestRemovable(t *testing.T) {
	sys := t.TempDir()
	for _, d := range []struct {
		major, minor uint32
		device, says string
		want         bool
	}{
		{8, 0, "pci0/ata1/block/sda", "0", false},
		{8, 16, "pci0/ata2/block/sdb", "1", true},
		{8, 17, "pci0/ata2/block/sdb/sdb1", "", true},
		{8, 32, "pci0/usb3/3-1/block/sdc", "0", true},
		{179, 0, "platform/mmc_host/mmc0/block/mmcblk0", "0", true},
	} {
		dir := filepath.Join(sys, "devices", d.device)
		require.NoError(t, os.MkdirAll(dir, 0o700))
		if d.says != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "removable"), []byte(d.says+"\n"), 0o600))
		}
		device := unix.Mkdev(d.major, d.minor)
		require.NoError(t, os.Symlink(dir, filepath.Join(sys, fmt.Sprintf("%d:%d", d.major, d.minor))))
		assert.Equal(t, d.want, removable(sys, device), d.device)
	}
	assert.False(t, removable(sys, unix.Mkdev(0, 42)), "what has no device cannot be unplugged")
}
