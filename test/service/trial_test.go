package service

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTryingOut on a stand-in, and on a real host that is reached over SSH: a machine of another host comes up from its disks where they lie, and so does one around a
// disk that came alone, in another form; nothing is left of it, and the disks are as they were. One that does not start is said not to, and one that runs is not tried.
func TestTryingOut(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, there := twoHosts(t)
	quay := standins.Join(t, s.Service, "quay", "quay-files", standin.Traits{Drivers: []string{"ide", "virtio"}})
	quay.Ticketing(t, bootable())
	content := read(t, quay.Folder, "ticketing.raw")
	machine, within := "quay:ticketing", 10
	seen, err := s.TryMachine(t.Context(), "quay", api.NewTrial{Machine: &machine, Within: &within})
	require.NoError(t, err)
	assert.True(t, seen.CameUp, seen.Evidence)
	assert.NotEmpty(t, seen.Evidence)
	bus, short := "scsi", 5
	seen, err = s.TryMachine(t.Context(), "quay", api.NewTrial{Machine: &machine, Within: &short, Bus: &bus})
	require.NoError(t, err)
	assert.False(t, seen.CameUp, "its guest has no driver for that")
	assert.Len(t, quay.List(), 1, "nothing is left")
	move := plan.Request{Kind: plan.MoveMachine, Machine: machine, To: "quay", Destination: &plan.Place{Pool: "quay-files"}}
	p, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "with scsi, and was not seen to come up", "the plan of a move says so")

	c := convert("ticketing.raw", "kiosk.vhdx", "vhdx")
	c.Source.Pool, c.Destination.Pool = "quay-files", "quay-files"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	disk := plan.Place{Pool: "quay-files", Path: "kiosk.vhdx"}
	before := read(t, quay.Folder, "kiosk.vhdx")
	seen, err = s.TryMachine(t.Context(), "lighthouse", api.NewTrial{Disk: &disk, Within: &within})
	require.NoError(t, err)
	require.NotNil(t, seen.Screen, "a real host has a picture")
	assert.Positive(t, seen.BytesRead)
	assert.Equal(t, before, read(t, quay.Folder, "kiosk.vhdx"))

	out := testkit.Run(t, t.TempDir(), s.State, "machine", "try", "local:ticketing", "lighthouse", "--within", "10s", "--json")
	assert.Contains(t, []int{0, 4}, out.Code, out.Notes) // a guest that says nothing is not seen to be up
	assert.Contains(t, out.Out, `"came_up"`)
	assert.Contains(t, out.Out, `"evidence"`)
	counts := here.Disk(t, "counts.raw", daemon.Counts(2<<20))
	disk = plan.Place{Pool: "quay-store", Path: filepath.Base(counts)}
	within = 60
	seen, err = s.TryMachine(t.Context(), "lighthouse", api.NewTrial{Disk: &disk, Within: &within})
	require.NoError(t, err)
	assert.True(t, seen.CameUp, "it writes")
	assert.Equal(t, daemon.Counts(2<<20), readFile(t, counts), "but not there")
	all, err := s.Machines(t.Context(), "lighthouse")
	require.NoError(t, err)
	assert.Empty(t, all.Items, "nothing is left there")
	left, err := filepath.Glob(filepath.Join(there.Dir, ".trial-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	running := here.Disk(t, "ticketing.raw", daemon.Counts(2<<20))
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Loaded(t, "ticketing")
	machine = "local:ticketing"
	seen, err = s.TryMachine(t.Context(), "lighthouse", api.NewTrial{Machine: &machine, Within: &within})
	require.NoError(t, err)
	assert.True(t, seen.CameUp, seen.Evidence)
	assert.Contains(t, strings.Join(seen.Evidence, "; "), "local:ticketing ran on meanwhile")
	move.Machine, move.To, move.Destination = machine, "lighthouse", &plan.Place{Pool: "lamp-room"}
	p, err = s.Plan(t.Context(), move)
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "It was tried out on lighthouse on ")
	m, err := s.Machine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, running, m.Is.Disks[0].File, "it goes on from its own disk")
	left, err = filepath.Glob(filepath.Join(here.Dir, "*-trial*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	twice := make(chan error, 2)
	for range cap(twice) { // the second one at once is refused, and disturbs nothing
		go func() {
			_, err := s.TryMachine(t.Context(), "lighthouse", api.NewTrial{Machine: &machine, Within: &within})
			twice <- err
		}()
	}
	first, second := <-twice, <-twice
	require.ErrorContains(t, errors.Join(first, second), "is being tried out, and its guest writes to other images")
	require.True(t, first == nil || second == nil)
	m, err = s.Machine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, running, m.Is.Disks[0].File)
	_, err = s.StopMachine(t.Context(), "local", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, readFile(t, running)), uint32(60), "and has lost nothing")
	assert.Equal(t, content, read(t, quay.Folder, "ticketing.raw"))
}

func readFile(t *testing.T, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return b
}
