package service

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestADriveComesAndGoes: when a job is done its drive can be unmounted, without it nothing is written into the empty folder, and another
// one in its place is known for what it is.
func TestADriveComesAndGoes(t *testing.T) {
	t.Parallel()
	t.Run("on the computer's own disk", func(t *testing.T) { comesAndGoes(t, t.TempDir()) })
	t.Run("inside of another drive", func(t *testing.T) {
		outer := t.TempDir()
		mount(t, "tmpfs", outer, "tmpfs", "size=1g")
		dir := filepath.Join(outer, "drive")
		require.NoError(t, os.Mkdir(dir, 0o700))
		comesAndGoes(t, dir)
	})
}

func comesAndGoes(t *testing.T, dir string) {
	state := filepath.Join(t.TempDir(), "state")
	mount(t, "tmpfs", dir, "tmpfs", "size=64m")
	s := testkit.Start(t, state)
	noise(t, s.Pool("quay-store"), "tide-board.raw", 4*mib)
	addPool(t, s.Service, "seabag", dir)
	copied := plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "seabag", Path: "tide-board.raw"},
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
	seabag := func(s *client.Service) api.Pool {
		p, err := s.Pool(t.Context(), "seabag")
		require.NoError(t, err)
		return p
	}
	require.True(t, seabag(s.Service).Facts.Mounted)

	require.Eventually(
		t,
		func() bool { return unix.Unmount(dir, 0) == nil },
		10*time.Second,
		50*time.Millisecond,
		"the drive is busy though nothing is done with it",
	)
	p := seabag(s.Service)
	require.NotNil(t, p.Problem)
	assert.Contains(t, *p.Problem, "its drive is not mounted")
	_, err := s.Plan(t.Context(), copied)
	require.ErrorContains(t, err, "connect and mount it at "+dir)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "nothing goes where the drive is not")

	mount(t, "tmpfs", dir, "tmpfs", "size=32m")
	assert.Nil(t, seabag(s.Service).Problem)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)

	// Its facts are read again when they hold no more.
	s.Stop()
	mount(t, "tmpfs", dir, "tmpfs", "size=32m,ro")
	s = testkit.Start(t, state)
	require.Eventually(
		t,
		func() bool { return seabag(s.Service).Facts.ReadOnly },
		10*time.Second,
		50*time.Millisecond,
		"what the pool can do was not read again",
	)
	require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH))
	require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH))
	trial, err := s.TestPool(t.Context(), "seabag", false)
	require.NoError(t, err)
	assert.False(t, trial.Worked)
	assert.Contains(t, trial.Steps[len(trial.Steps)-1].Said, "--without-drive")
	require.NotNil(t, seabag(s.Service).Problem, "to test it does not make the folder below the mount point the pool")
	trial, err = s.TestPool(t.Context(), "seabag", true) // it is meant to be there without
	require.NoError(t, err)
	assert.True(t, trial.Worked)
	assert.Nil(t, seabag(s.Service).Problem)
}
