// Package loops makes disks of this computer that are files, for tests.
package loops

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Loop is a disk of this computer that is a file.
type Loop struct {
	Path string // /dev/loopN
	File string
	t    testing.TB
}

// New makes one of so many bytes, with sectors of a size and a partition table by sfdisk(8), and skips the test where that is not possible.
func New(t testing.TB, size int64, sector int, table string) *Loop {
	t.Helper()
	return NewAt(t, "--find", size, sector, table)
}

// NewAt does so with a name, which nobody else takes as long as there are others.
func NewAt(t testing.TB, path string, size int64, sector int, table string) *Loop {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("making a disk takes root")
	}
	for _, tool := range []string{"losetup", "partx", "sfdisk", "mkfs.ext4", "mkfs.vfat"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing", tool)
		}
	}
	file := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, size))
	out, err := exec.Command("losetup", "--show", "--sector-size", strconv.Itoa(sector), path, file).CombinedOutput()
	if err != nil {
		t.Skipf("this system makes no loop devices: %s", out)
	}
	l := &Loop{strings.TrimSpace(string(out)), file, t}
	t.Cleanup(func() { l.Run("losetup", "--detach", l.Path) })
	cmd := exec.Command("sfdisk", "--quiet", l.Path)
	cmd.Stdin = strings.NewReader(table)
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	_ = exec.Command("partx", "--delete", l.Path).Run() // where the kernel has them already
	l.Run("partx", "--add", l.Path)
	t.Cleanup(func() {
		require.Eventually(t, func() bool { return exec.Command("partx", "--delete", l.Path).Run() == nil }, 10*time.Second, 50*time.Millisecond,
			"somebody may look at its partitions")
	})
	return l
}

// Of makes one of a file, read past what the system remembers of it.
func Of(t testing.TB, file string) *Loop {
	t.Helper()
	out, err := exec.Command("losetup", "--find", "--show", "--direct-io=on", file).CombinedOutput()
	if err != nil {
		t.Skipf("this system makes no loop devices: %s", out)
	}
	l := &Loop{strings.TrimSpace(string(out)), file, t}
	t.Cleanup(func() { l.Run("losetup", "--detach", l.Path) })
	return l
}

// Again takes the disk away and brings another one of that name: that it has the same content, nobody knows.
func (l *Loop) Again() {
	l.t.Helper()
	l.Run("partx", "--delete", l.Path)
	l.Run("losetup", "--detach", l.Path)
	require.Eventually(l.t, func() bool { return exec.Command("losetup", l.Path, l.File).Run() == nil }, 10*time.Second, 50*time.Millisecond,
		"somebody may look at it, and keep it for a moment")
	l.Run("partx", "--add", l.Path)
}

// Rescan has the system look for its partitions anew.
func (l *Loop) Rescan() {
	l.t.Helper()
	_ = exec.Command("partx", "--delete", l.Path).Run() // where it has any
	l.Run("partx", "--add", l.Path)
}

// Run runs a program of the system.
func (l *Loop) Run(name string, args ...string) {
	l.t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(l.t, err, "%s %v: %s", name, args, out)
}

// Part is the device of a partition.
func (l *Loop) Part(number int) string { return l.Path + "p" + strconv.Itoa(number) }

// Mount mounts a partition until the returned function is called, or the test ends.
func (l *Loop) Mount(number int, options string) (at string, umount func()) {
	l.t.Helper()
	at = l.t.TempDir()
	l.Run("mount", "-o", options, l.Part(number), at)
	mounted := true
	umount = func() {
		if mounted {
			mounted = false
			require.Eventually(l.t, func() bool { return exec.Command("umount", at).Run() == nil }, 30*time.Second, 50*time.Millisecond,
				"whoever thaws it may have it open for a moment")
		}
	}
	l.t.Cleanup(umount)
	return at, umount
}

// Name is the one that it has in /dev.
func (l *Loop) Name() string { return filepath.Base(l.Path) }
