package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/host"
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

// TestWhatIsWrongIsMended by the plans that come with it: a machine uses its disk where that is now, or gives one away that another one writes to.
func TestWhatIsWrongIsMended(t *testing.T) {
	t.Parallel()
	r := rosters["standin"](t)
	find := func() []api.MachineFinding {
		_, err := r.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
		require.NoError(t, err)
		found, err := r.MachineFindings(t.Context(), "")
		require.NoError(t, err)
		return found.Items
	}
	require.NoError(t, os.Mkdir(filepath.Join(r.folder, "moved"), 0o700))
	require.NoError(t, os.Rename(filepath.Join(r.folder, "crew-roster/crew-roster.qcow2"), filepath.Join(r.folder, "moved/crew-roster.qcow2")))
	found := find()
	require.Len(t, found, 1)
	assert.Equal(t, api.Missing, found[0].Kind)
	require.NotNil(t, found[0].Mends)
	out := testkit.Run(t, r.folder, r.State, "machine", "check")
	assert.Contains(t, out.Out, "bagaglio machine attach quay:crew-roster quay-store:moved/crew-roster.qcow2 --in-place-of hda --bus ide")
	r.does(t, (*found[0].Mends)[0])
	assert.Empty(t, find())
	assert.Equal(t, "moved/crew-roster.qcow2", *r.is(t).Disks[0].Path)
	_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
	require.NoError(t, err)

	h, err := r.kind.Open(t.Context(), r.address)
	require.NoError(t, err)
	defer h.Close()
	_, err = h.(host.Definer).Define(
		t.Context(),
		[]byte(strings.ReplaceAll(standins.Definition("trial", "7d3f2c11-5b7e-4b0d-8a44-10a6a2f3c9b2",
			filepath.Join(r.folder, "moved/crew-roster.qcow2"), "qcow2"), "00:00:00:01", "00:00:00:02")),
	)
	require.NoError(t, err)
	found = find()
	require.Len(t, found, 1)
	assert.Equal(t, api.Shared, found[0].Kind)
	require.Len(t, *found[0].Mends, 2)
	q := (*found[0].Mends)[1]
	j := testkit.Await(t, r.Service.Service, testkit.Begin(t, r.Service.Service, q).Id)
	require.Equal(t, api.JobStateDone, j.State)
	assert.Empty(t, find())
}

// TestALostSnapshotIsFound: one that the host lists, and that the image does not have any more, is found, and forgotten by a plan.
func TestALostSnapshotIsFound(t *testing.T) {
	t.Parallel()
	r := rosters["libvirt"](t)
	_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "may"})
	_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
	require.NoError(t, err)
	find := func() []api.MachineFinding {
		_, err := r.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
		require.NoError(t, err)
		found, err := r.MachineFindings(t.Context(), "")
		require.NoError(t, err)
		return found.Items
	}
	assert.Empty(t, find())
	c := convert("crew-roster/crew-roster.qcow2", "crew-roster/crew-roster.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Replace = "quay-store", "quay-store", true
	testkit.Await(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	found := find()
	require.Len(t, found, 1)
	assert.EqualValues(t, "kept", found[0].Kind)
	assert.Contains(t, found[0].What, "lists the snapshot may")
	r.does(t, (*found[0].Mends)[0])
	assert.Empty(t, find())
}
