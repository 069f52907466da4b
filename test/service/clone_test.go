package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// read returns the whole content of a disk in a folder.
func read(t *testing.T, dir, name string) []byte {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, name, "")
	require.NoError(t, err)
	defer r.Close()
	content := make([]byte, r.Size())
	_, err = r.ReadAt(content, 0)
	require.NoError(t, err)
	return content
}

// TestACloneOfASnapshot has the disk as it was then, with an identity of its own, and starts; the machine goes on as it is. What a snapshot means that was
// taken as the machine ran is said.
func TestACloneOfASnapshot(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "before-the-season"})
			q := plan.Request{
				Kind: plan.CopyMachine, Machine: r.machine(), To: r.host, Snapshot: "before-the-season", Name: "crew-roster-may",
				Destination: &plan.Place{Pool: "quay-store"}, Start: true, Within: 60,
			}
			if kind == "libvirt" { // its snapshots are inside of the image
				p, err := r.Plan(t.Context(), q)
				require.NoError(t, err)
				assert.True(t, p.Blocked)
				q.Suspend = true
			}
			p, err := r.Plan(t.Context(), q)
			require.NoError(t, err)
			assert.Contains(t, messages(p.Plan), "while the machine ran: the copy starts as after a power cut then")
			_, done := r.does(t, q)
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.True(t, done.Machine.CameUp)
			assert.EqualValues(t, "running", r.is(t).State, "it has gone on")
			clone, err := r.Machine(t.Context(), r.host, "crew-roster-may")
			require.NoError(t, err)
			assert.NotEqual(t, r.is(t).Uuid, clone.Uuid)
			_, err = r.StopMachine(t.Context(), r.host, "crew-roster-may", 0, true)
			require.NoError(t, err)

			q.Snapshot = "no-such"
			_, err = r.Plan(t.Context(), q)
			require.ErrorContains(t, err, "not found")
			q.Snapshot, q.Kind, q.Start, q.Suspend = "before-the-season", plan.MoveMachine, false, false
			_, err = r.Plan(t.Context(), q)
			require.ErrorContains(t, err, "is copied")
		})
	}
}

// TestACloneIsWhatTheSnapshotWas, whatever was written since: the disk is that of the snapshot, byte by byte.
func TestACloneIsWhatTheSnapshotWas(t *testing.T) {
	t.Parallel()
	r := rosters["standin"](t)
	image := filepath.Join(r.folder, "crew-roster/crew-roster.qcow2")
	then := read(t, r.folder, "crew-roster/crew-roster.qcow2")
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "may"})
	noise(t, r.folder, "june.raw", int64(len(then)))
	c := convert("june.raw", "crew-roster/crew-roster.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Replace = "quay-store", "quay-store", true
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	require.NotEqual(t, then, read(t, r.folder, "crew-roster/crew-roster.qcow2"))
	out := testkit.Run(
		t,
		r.folder,
		r.State,
		"machine",
		"copy",
		r.machine(),
		"quay",
		"--pool",
		"quay-store",
		"--name",
		"crew-may",
		"--snapshot",
		"may",
		"--yes",
	)
	require.Zero(t, out.Code, out.Notes+out.Out)
	assert.Equal(t, then, read(t, r.folder, "crew-may/crew-roster.qcow2"))
	_, err := os.Stat(image)
	require.NoError(t, err)
}
