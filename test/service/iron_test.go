package service

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/linux"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// started is how often a guest was started that lies in an image, as it noted itself.
func started(t *testing.T, image string) int {
	t.Helper()
	folder, err := local.Open(filepath.Dir(image))
	require.NoError(t, err)
	defer folder.Close()
	d, err := disk.Open(t.Context(), folder, filepath.Base(image), "raw")
	require.NoError(t, err)
	defer d.Close()
	v, err := inspect.Part(d, 3)
	if err != nil {
		return 0
	}
	text, err := fs.ReadFile(v, "starts")
	if err != nil {
		return 0 // it may be writing it
	}
	return strings.Count(string(text), "\n")
}

// TestIronBecomesAGuest: a real system's disk, made larger, is a drive of this computer; it is captured 30 % smaller into a machine on another host, which
// starts by UEFI on one bus; then that moves back, and starts by BIOS on another bus. The guest itself says each time that it has started.
func TestIronBecomesAGuest(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, there := twoHosts(t)
	_, err := s.ChangePool(t.Context(), "quay-store", api.PoolChange{Rules: plan.Rules{Owner: here.Owner, Mode: "0660"}})
	require.NoError(t, err)
	content, err := os.ReadFile(linux.Disk(t))
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "linux.raw"), content, 0o600))
	run := testkit.Run(t, dir, s.State, "resize", "./linux.raw", "./iron.raw", "--size", "120M", "--yes")
	require.Zero(t, run.Code, run.Notes)
	l := loops.Of(t, filepath.Join(dir, "iron.raw"))
	r := plan.Request{
		Kind: plan.CopyMachine, Source: plan.Place{Pool: plan.DevicesOf("local"), Path: l.Name(), Format: "raw"}, UsedOnly: true, Size: 84 << 20,
		To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "raw", Name: "tide-board", Start: true, Within: 300,
		Changes: plan.Changes{Memory: 512 << 20, Processors: 1},
	}
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.True(t, done.Machine.CameUp, done.Machine.Evidence)
	part := done.Parts[0]
	require.NotNil(t, part.Fit)
	i := len(part.Fit.Parts) - 1
	assert.True(t, part.Fit.Parts[i].Resized)
	assert.Greater(t, part.Fit.Parts[i].Files, 2)
	is, err := s.Machine(t.Context(), "lighthouse", "tide-board")
	require.NoError(t, err)
	assert.Equal(t, machine.UEFI, is.Is.Firmware)
	image := filepath.Join(there.Dir, "tide-board", "tide-board.raw")
	require.Eventually(t, func() bool { return started(t, image) == 1 }, 2*time.Minute, time.Second, "it came up by UEFI")

	move := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "lighthouse:tide-board",
		To:          "local",
		Destination: &plan.Place{Pool: "quay-store"},
		Stop:        true,
		Start:       true,
		Within:      300,
		Changes:     plan.Changes{Firmware: machine.BIOS, Chipset: "pc", Buses: map[string]string{plan.AllDisks: "ide"}},
		Disks:       map[string]plan.DiskChoice{"vda": {Size: 140 << 20}},
	}
	_, err = s.StopMachine(t.Context(), "lighthouse", "tide-board", 1, true)
	require.NoError(t, err)
	done = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.True(t, done.Machine.CameUp, done.Machine.Evidence)
	assert.Equal(t, receipt.Proven, done.Outcome)
	require.NotNil(t, done.Parts[0].Fit, "and it became larger again on its way")
	assert.Equal(t, int64(140<<20), done.Parts[0].Destination.VirtualSize)
	image = filepath.Join(here.Dir, "tide-board", "tide-board.raw")
	require.Eventually(t, func() bool { return started(t, image) == 2 }, 2*time.Minute, time.Second, "it came up by BIOS, on another bus")
}
