package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMachineIsRemoved: its host forgets it, its disks are held with its definition, and undoing brings all of it back, on each kind of host.
func TestAMachineIsRemoved(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			before := r.is(t)
			image := filepath.Join(r.folder, "crew-roster/crew-roster.qcow2")
			content, err := os.ReadFile(image)
			require.NoError(t, err)
			_, err = r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			runs, err := r.Plan(t.Context(), plan.Request{Kind: plan.RemoveMachine, Machine: r.machine()})
			require.NoError(t, err)
			assert.True(t, runs.Blocked)

			gone, done := r.does(t, plan.Request{Kind: plan.RemoveMachine, Stop: true})
			want := receipt.Proven
			if kind == "standin" { // over SSH
				want = receipt.Unproven
				assert.Contains(t, done.Reason, "their content was not read")
			}
			assert.Equal(t, want, done.Outcome, done.Reason)
			_, err = r.Machine(t.Context(), r.host, "crew-roster")
			require.ErrorContains(t, err, "not found")
			assert.NoFileExists(t, image)
			held, err := r.Held(t.Context())
			require.NoError(t, err)
			require.Len(t, held, 1)
			require.NotNil(t, held[0].Machine, "what it was is beside its disk")
			assert.Contains(t, held[0].Machine.Definition, "crew-roster")
			assert.Contains(t, held[0].Why, "removed with the machine "+r.machine())

			out := testkit.Run(t, r.folder, r.State, "job", "undo", gone, "--plan")
			require.Zero(t, out.Code, out.Notes)
			assert.Contains(t, out.Out, "comes back from the holding folder with its disks:")
			_, done = r.does(t, plan.Request{Kind: plan.Undo, Job: gone})
			assert.Equal(t, want, done.Outcome, done.Reason)
			after := r.is(t)
			assert.Equal(t, before.Is, after.Is)
			again, err := os.ReadFile(image)
			require.NoError(t, err)
			assert.Len(t, again, len(content))
			_, err = r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
		})
	}
}

// TestWhatStaysOfAMachine: a disk that another machine has, and one that another disk stands on, hold it up; left behind, the rest goes.
func TestWhatStaysOfAMachine(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	r := roster{Service: s, host: "quay", folder: quay.Folder}
	noise(t, quay.Folder, "shared.raw", mib)
	noise(t, quay.Folder, "base.raw", mib)
	c := convert("base.raw", "top.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Layout, c.Base = "quay-store", "quay-store", "overlay", "base.raw"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	define := func(name, id, file string) {
		_, err := quay.Define([]byte(standins.Definition(name, id, filepath.Join(quay.Folder, file), "raw")))
		require.NoError(t, err)
	}
	define("crew-roster", standins.TicketingID, "shared.raw")
	define("tide-board", "1c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", "shared.raw")
	q := plan.Request{Kind: plan.RemoveMachine, Machine: r.machine()}
	p, err := s.Plan(t.Context(), q)
	require.NoError(t, err)
	assert.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "quay:tide-board names it")
	q.Disks = map[string]plan.DiskChoice{"hda": {Leave: true}}
	r.does(t, q)
	assert.FileExists(t, filepath.Join(quay.Folder, "shared.raw"))
	_, err = s.Machine(t.Context(), "quay", "crew-roster")
	require.ErrorContains(t, err, "not found")

	define("cargo-ledger", "2c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", "base.raw")
	p, err = s.Plan(t.Context(), plan.Request{Kind: plan.RemoveMachine, Machine: "quay:cargo-ledger"})
	require.NoError(t, err)
	assert.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "top.qcow2 stand(s) on this disk")
}
