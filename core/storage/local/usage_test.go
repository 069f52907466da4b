//go:build linux && !elsewhere

package local

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestWhatWeStartUsesNothing: while programs are started all the time, a file that was written and closed is not in use, and one that is
// open is.
func TestWhatWeStartUsesNothing(t *testing.T) {
	f, _ := folder(t)
	ctx, cancel := context.WithCancel(t.Context())
	var starts sync.WaitGroup
	for range 4 {
		starts.Go(func() {
			for ctx.Err() == nil {
				_ = exec.CommandContext(ctx, "true").Run()
			}
		})
	}
	defer starts.Wait()
	defer cancel()
	for range 300 {
		file, err := f.Create("tide")
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("high"), 0)
		require.NoError(t, err)
		require.NoError(t, file.Close())
		why, err := f.InUse("tide")
		require.NoError(t, err)
		require.Empty(t, why)
		l, err := f.Lease("tide")
		require.NoError(t, err)
		require.NoError(t, l.Close())
		require.NoError(t, f.Remove("tide"))
	}
	file, err := f.Create("tide")
	require.NoError(t, err)
	defer file.Close()
	why, err := f.InUse("tide")
	require.NoError(t, err)
	assert.Equal(t, "another program has it open for writing", why)
}

// TestWhoOnlyReads has nothing in use: an emulator that has an image open as what a disk stands on locks single bytes, and one that writes to it another one
// too. Whoever else has locked something uses the file.
func TestWhoOnlyReads(t *testing.T) {
	f, dir := folder(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide"), make([]byte, 1<<20), 0o600))
	for name, c := range map[string]struct {
		locks []int64
		kind  int16
		used  bool
	}{
		"nobody":                        {nil, unix.F_RDLCK, false},
		"an emulator that reads":        {[]int64{permissions, others + written, others + 3}, unix.F_RDLCK, false},
		"one that writes":               {[]int64{permissions, permissions + written, others + written}, unix.F_RDLCK, true},
		"another program":               {[]int64{4096}, unix.F_RDLCK, true},
		"another one beside it":         {[]int64{permissions, 4096}, unix.F_RDLCK, true},
		"one that locks for writing":    {[]int64{others + 3}, unix.F_WRLCK, true},
		"one that forbids, and no more": {[]int64{others + written}, unix.F_RDLCK, true},
	} {
		t.Run(name, func(t *testing.T) {
			flags := os.O_RDONLY
			if c.kind == unix.F_WRLCK {
				flags = os.O_RDWR
			}
			file, err := os.OpenFile(filepath.Join(dir, "tide"), flags, 0)
			require.NoError(t, err)
			defer file.Close()
			for _, at := range c.locks {
				lock := unix.Flock_t{Type: c.kind, Whence: unix.SEEK_SET, Start: at, Len: 1}
				require.NoError(t, unix.FcntlFlock(file.Fd(), unix.F_OFD_SETLK, &lock))
			}
			why, err := f.InUse("tide")
			require.NoError(t, err)
			assert.Equal(t, c.used, why != "", why)
		})
	}
}
