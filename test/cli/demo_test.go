package cli

import (
	"os"
	"os/exec"
	"testing"

	"bagaglio/internal/demo"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDemo: it shows the main job, proves it, and takes everything away again.
func TestDemo(t *testing.T) {
	t.Parallel()
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	tmp := t.TempDir()
	cmd := exec.CommandContext(t.Context(), testkit.Binary(t), "demo")
	cmd.Env = append(os.Environ(), "TMPDIR="+tmp)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, part := range []string{"BEFORE", "step 4 of 5", "PROVEN", "They are the same.", "WHAT HAPPENED", "All have the fingerprint bf1-", "says now: <source file=", "lighthouse-store/crew-roster.raw'/>", "quay:ticketing is running", "Came up        yes", "Partition 4 (data, Linux, ext4): left out", "Old place      quay does not know it any more"} {
		assert.Contains(t, string(out), part)
	}
	assert.Empty(t, left(t, tmp))
}

// TestDemoDiskIsReal: the kernel reads its partitions and mounts its filesystem.
func TestDemoDiskIsReal(t *testing.T) {
	t.Parallel()
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	dir := t.TempDir()
	path, err := demo.MakeDisk(t.Context(), dir, "ticketing")
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, int64(256<<20), info.Size())
	assert.Equal(t, []string{"ticketing.raw"}, left(t, dir))
	r := testkit.Run(t, dir, "", "look", "./ticketing.raw")
	assert.Regexp(t, `gpt +1 .*EFI system +boot +fat32 BOOT`, r.Out)
	assert.Regexp(t, `gpt +2 .*Linux +ticketing +ext4 ticketing`, r.Out)
	require.Zero(t, testkit.Run(t, dir, "", "convert", "./ticketing.raw", "./t.qcow2").Code)
	require.Zero(t, testkit.Run(t, dir, "", "convert", "./t.qcow2", "./back.raw").Code)
	if os.Getuid() != 0 {
		t.Skip("loop devices take root")
	}
	// From here on it is the kernel that looks.
	script := `set -e; cd "$0"
		loop=$(losetup --find --show --read-only --offset $((34<<20)) back.raw); trap 'umount mnt 2>/dev/null; losetup -d $loop' EXIT
		e2fsck -fn $loop; mkdir mnt; mount -o ro,noload $loop mnt; cat mnt/etc/hostname; wc -l < mnt/srv/bookings.csv`
	out, err := exec.CommandContext(t.Context(), "bash", "-c", script, dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "ticketing\n510000\n")
}
