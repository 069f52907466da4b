package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsWrongWithMachines is found, with what may be meant and what to do, and nothing where all is well.
func TestWhatIsWrongWithMachines(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	lamp := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, bootable())
	check := func(on string) map[api.MachineFindingKind]api.MachineFinding {
		t.Helper()
		found, err := s.MachineFindings(t.Context(), on)
		require.NoError(t, err)
		require.Empty(t, found.Away)
		out := map[api.MachineFindingKind]api.MachineFinding{}
		for _, f := range found.Items {
			assert.NotContains(t, out, f.Kind)
			out[f.Kind] = f
		}
		return out
	}
	assert.Empty(t, check(""))

	// What a machine of a host names is not removed, though it is off; nor where a host cannot be asked.
	removal := plan.Request{Kind: plan.Remove, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"}}
	p, err := s.Plan(t.Context(), removal)
	require.NoError(t, err)
	assert.True(t, p.Plan.Blocked())
	assert.Contains(t, messages(p.Plan), "The definition of quay:ticketing names it")
	assert.Zero(t, testkit.Run(t, t.TempDir(), s.State, "machine", "check").Code)

	// The same machine is known to both hosts, another one there has the disk too, and the disk of the first went away.
	far := filepath.Join(lamp.Folder, "ticketing.raw")
	require.NoError(t, os.WriteFile(far, bootable(), 0o600))
	_, err = lamp.Define([]byte(standins.Definition("ticketing", standins.TicketingID, far, "raw")))
	require.NoError(t, err)
	_, err = lamp.Define(
		[]byte(
			strings.ReplaceAll(standins.Definition("tide-board", "7d3f2c11-5b7e-4b0d-8a44-10a6a2f3c9b2", far, "raw"), "00:00:00:01", "00:00:00:02"),
		),
	)
	require.NoError(t, err)
	require.NoError(t, os.Rename(filepath.Join(quay.Folder, "ticketing.raw"), filepath.Join(quay.Folder, "elsewhere.raw")))
	refresh := true
	_, err = s.ListDisks(t.Context(), "lamp-room", api.ListDisksParams{Refresh: &refresh})
	require.NoError(t, err)

	found := check("")
	missing := found[api.Missing]
	assert.Equal(t, []string{"quay:ticketing"}, missing.Machines)
	assert.Equal(t, "quay-store:ticketing.raw", missing.Disk.String())
	require.NotNil(t, missing.Candidates)
	assert.Equal(t, "lamp-room:ticketing.raw", (*missing.Candidates)[0].String())
	assert.ElementsMatch(t, []string{"lighthouse:ticketing", "lighthouse:tide-board"}, found[api.Shared].Machines)
	assert.Contains(t, found[api.Shared].What, "lamp-room:ticketing.raw")
	assert.ElementsMatch(t, []string{"quay:ticketing", "lighthouse:ticketing"}, found[api.Identity].Machines)
	assert.Contains(t, found[api.Identity].What, standins.TicketingID)
	only := check("quay")
	assert.Contains(t, only, api.Missing)
	assert.NotContains(t, only, api.Shared)

	run := testkit.Run(t, t.TempDir(), s.State, "machine", "check")
	assert.Equal(t, 1, run.Code)
	assert.Contains(t, run.Out, "quay-store:ticketing.raw, which is not there")
	assert.Contains(t, run.Out, "  - lamp-room:ticketing.raw")
	require.NoError(t, os.Rename(filepath.Join(quay.Folder, "elsewhere.raw"), filepath.Join(quay.Folder, "ticketing.raw")))
	assert.NotContains(t, check("quay"), api.Missing)
	lamp.Kill()
	removal.Source.Path = "spare.raw"
	noise(t, quay.Folder, "spare.raw", mib)
	_, err = s.Plan(t.Context(), removal)
	require.ErrorContains(t, err, "whether a machine of the host lighthouse names it is not known")
	removal.WithoutKnowing = true
	p, err = s.Plan(t.Context(), removal)
	require.NoError(t, err)
	assert.False(t, p.Plan.Blocked(), messages(p.Plan))
	_, err = s.MachineFindings(t.Context(), "pier")
	require.ErrorContains(t, err, "pier")
}
