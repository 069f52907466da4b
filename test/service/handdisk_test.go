package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// neighbour makes a second machine known on the host of a roster, tide-board, whose disk lies in a folder of its own.
func (r roster) neighbour(t *testing.T) {
	t.Helper()
	dir := filepath.Join(r.folder, "tide-board")
	noise(t, r.folder, "tide-board/tide-board.raw", mib)
	file := filepath.Join(dir, "tide-board.raw")
	require.NoError(t, os.Chmod(dir, 0o777))
	require.NoError(t, os.Chmod(file, 0o666))
	text := standins.Definition("tide-board", "1c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", file, "raw")
	if r.host == "local" {
		text = daemon.Definition("tide-board", file)
	}
	h, err := r.kind.Open(t.Context(), r.address)
	require.NoError(t, err)
	defer h.Close()
	_, err = h.(host.Definer).Define(t.Context(), []byte(text))
	require.NoError(t, err)
}

// TestADiskIsHandedOver: its files go into the folder of the machine that gets it, with its tag and under another name where that is taken, whether both are
// off or run; undoing gives it back to where it was. It is proven, and nothing of it is lost when the one that gets it refuses.
func TestADiskIsHandedOver(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			r.neighbour(t)
			noise(t, r.folder, "boxes.raw", mib)
			content, err := os.ReadFile(filepath.Join(r.folder, "boxes.raw"))
			require.NoError(t, err)
			c := convert("boxes.raw", "crew-roster/tide-board.qcow2", "qcow2") // the name of a disk of the other one, in another format
			c.Source.Pool, c.Destination.Pool = "quay-store", "quay-store"
			testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
			image := filepath.Join(r.folder, "crew-roster/tide-board.qcow2")
			require.NoError(t, os.Chmod(image, 0o666))
			require.NoError(t, os.WriteFile(filepath.Join(r.folder, "tide-board/tide-board.qcow2"), []byte("no disk of ours"), 0o666))
			r.does(
				t,
				plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "crew-roster/tide-board.qcow2"}, Serial: "BOX-7"},
			)
			slot := *r.is(t).Disks[1].Slot

			hand := plan.Request{Kind: plan.HandDisk, Slot: slot, To: r.host + ":tide-board"}
			gave, done := r.does(t, hand)
			assert.NotEqual(t, receipt.Failed, done.Outcome, done.Reason)
			require.Len(t, r.is(t).Disks, 1)
			now, err := r.Machine(t.Context(), r.host, "tide-board")
			require.NoError(t, err)
			require.Len(t, now.Disks, 2)
			assert.Equal(t, "tide-board/tide-board-2.qcow2", *now.Disks[1].Path)
			assert.Equal(t, "BOX-7", now.Is.Disks[1].Serial)
			assert.FileExists(t, filepath.Join(r.folder, "tide-board/tide-board-2.qcow2.bagtag"))
			assert.NoFileExists(t, image)
			proof := plan.Request{
				Kind:   plan.Prove,
				Source: plan.Place{Pool: "quay-store", Path: "tide-board/tide-board-2.qcow2"},
				Tag:    plan.TagBeside,
			}
			testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, proof).Id)

			r.does(t, plan.Request{Kind: plan.Undo, Job: gave})
			require.Len(t, r.is(t).Disks, 2)
			assert.Equal(t, "crew-roster/tide-board.qcow2", *r.is(t).Disks[1].Path)
			back := convert("crew-roster/tide-board.qcow2", "check.raw", "raw")
			back.Source.Pool, back.Destination.Pool = "quay-store", "quay-store"
			testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, back).Id)
			same, err := os.ReadFile(filepath.Join(r.folder, "check.raw"))
			require.NoError(t, err)
			assert.Equal(t, content, same)

			p, err := r.Plan(t.Context(), plan.Request{Kind: plan.HandDisk, Machine: r.machine(), Slot: "sdz", To: r.host + ":tide-board"})
			require.NoError(t, err)
			assert.Contains(t, messages(p.Plan), "has no disk sdz")
			if kind == "standin" { // whose guests let go of disks
				_, err = r.StartMachine(t.Context(), r.host, "crew-roster")
				require.NoError(t, err)
				out := testkit.Run(
					t,
					r.folder,
					r.State,
					"machine",
					"hand-over",
					r.machine(),
					slot,
					r.host+":tide-board",
					"--at",
					"quay-store:tide-board/log.qcow2",
					"--yes",
				)
				require.Zero(t, out.Code, out.Notes+out.Out)
				assert.FileExists(t, filepath.Join(r.folder, "tide-board/log.qcow2"))
				assert.True(t, strings.Contains(out.Out, "has the disk as"))
			}
		})
	}
}
