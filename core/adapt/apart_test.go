//go:build linux && !elsewhere

package adapt

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestWhatSomebodyUnmounts meanwhile is unmounted: nothing of it is kept by the mounts of a thread, and its device is free.
func TestWhatSomebodyUnmounts(t *testing.T) {
	needs(t, "mkfs.ext4")
	dir, scratch := t.TempDir(), t.TempDir()
	name, at := filepath.Join(dir, "drive.raw"), filepath.Join(dir, "a drive")
	require.NoError(t, os.Mkdir(at, 0o755))
	sh(t, "truncate -s 16M "+name+"; mkfs.ext4 -q -F "+name+"; mount -o loop "+name+" '"+at+"'")
	mounted := true
	t.Cleanup(func() {
		if mounted {
			_ = unix.Unmount(at, 0)
		}
	})
	require.NoError(t, os.WriteFile(filepath.Join(at, "tide"), []byte("high"), 0o600))
	require.NoError(t, apart(t.Context(), scratch, func() error {
		_, err := os.Stat(filepath.Join(at, "tide"))
		assert.ErrorIs(t, err, os.ErrNotExist, "the thread does not have it")
		assert.NoError(t, os.WriteFile(filepath.Join(scratch, "note"), nil, 0o600))
		sh := func() error { return unix.Unmount(at, 0) }
		done := make(chan error)
		go func() { done <- sh() }() // another thread, as somebody else
		err = <-done
		mounted = err != nil
		if err != nil {
			return err
		}
		devices, globErr := filepath.Glob("/sys/block/loop*/loop/backing_file")
		for _, d := range devices {
			backing, _ := os.ReadFile(d)
			assert.NotContains(t, string(backing), name, "its device is free")
		}
		return globErr
	}))
}
