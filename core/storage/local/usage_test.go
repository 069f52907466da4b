package local

import (
	"context"
	"os/exec"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
