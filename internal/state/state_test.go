package state

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/internal/records"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestWhoHasTheState: one service does, and what an earlier one had started may have its lock for a moment.
func TestWhoHasTheState(t *testing.T) {
	dir := t.TempDir()
	left, err := os.Create(filepath.Join(dir, "lock"))
	require.NoError(t, err)
	require.NoError(t, unix.Flock(int(left.Fd()), unix.LOCK_EX))
	time.AfterFunc(300*time.Millisecond, func() { _ = left.Close() })
	first, err := Lock(dir, "service")
	require.NoError(t, err)
	defer first.Close()
	_, err = Lock(dir, "service")
	require.ErrorIs(t, err, records.ErrState)
	assert.ErrorContains(t, err, "another service uses the state folder")
}
