package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALinkIsNotTheDisk: a name that leads to a disk is read as the disk, but is not moved or made anew as if it were.
func TestALinkIsNotTheDisk(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
	testkit.Noise(t, filepath.Join(quay, "deck/tide.raw"), mib)
	require.NoError(t, os.Symlink("deck/tide.raw", filepath.Join(quay, "tide.raw")))
	for _, to := range []string{"quay-store:elsewhere/tide.raw", "sea-store:tide.raw"} {
		kept, err := s.Plan(t.Context(), move("quay-store:tide.raw", to))
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(blocks(kept.Plan, "link")), "tide.raw is a link to deck/tide.raw")
	}
	kept, err := s.Plan(
		t.Context(),
		plan.Request{
			Kind:        plan.Convert,
			As:          "raw",
			Replace:     true,
			Source:      plan.Place{Pool: "quay-store", Path: "tide.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "tide.raw"},
		},
	)
	require.NoError(t, err)
	assert.True(t, kept.Blocked)
	r := move("quay-store:tide.raw", "sea-store:tide.raw")
	r.Release = false
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	read, err := os.ReadFile(filepath.Join(quay, "deck/tide.raw"))
	require.NoError(t, err)
	copied, err := os.ReadFile(filepath.Join(sea, "tide.raw"))
	require.NoError(t, err)
	assert.Equal(t, read, copied)
	// What an image stands on does not dangle either.
	overlay(t, quay, "top.qcow2", "tide.raw")
	kept, err = s.Plan(t.Context(), move("quay-store:top.qcow2", "sea-store:top.qcow2"))
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(blocks(kept.Plan, "link")), "tide.raw is a link")
	leaves := move("quay-store:tide.raw", "sea-store:gone.raw")
	leaves.Source.Path = "outside.raw"
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(quay, "outside.raw")))
	kept, err = s.Plan(t.Context(), leaves)
	assert.True(t, err != nil || kept.Blocked)
}

// TestATornCopyIsNotProven: somebody writes into the source while it is copied, and puts the time of its change back.
func TestATornCopyIsNotProven(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	file := filepath.Join(quay, "tide.raw")
	testkit.Noise(t, file, 20*mib)
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(file, past, past))
	slow := func(to string) api.Job {
		kept, err := s.Plan(
			t.Context(),
			plan.Request{
				Kind:        plan.Convert,
				As:          "qcow2",
				Source:      plan.Place{Pool: "quay-store", Path: "tide.raw"},
				Destination: &plan.Place{Pool: "quay-store", Path: to},
			},
		)
		require.NoError(t, err)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: ptr(int64(20 * mib))})
		require.NoError(t, err)
		return testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 4*mib })
	}
	write := func(off int64) {
		f, err := os.OpenFile(file, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("torn"), off)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.NoError(t, os.Chtimes(file, past, past))
	}
	j := slow("torn.qcow2")
	write(1*mib + 77) // which was read already, and is none of the places that are looked at again
	j = testkit.Await(t, s.Service, j.Id)
	assert.Equal(t, api.JobStateFailed, j.State)
	require.NotNil(t, j.Reason)
	assert.Contains(t, *j.Reason, "changed")
	assert.NoFileExists(t, filepath.Join(quay, "torn.qcow2"))

	// What comes later is read as it is then; that it was opened is told, and all of it read again.
	j = slow("whole.qcow2")
	write(19*mib + 5)
	done := testkit.Proven(t, s.Service, j.Id)
	assert.Contains(t, fmt.Sprint(done.Remarks), "all of it was read again, and is the same")
	folder, err := local.Open(quay)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, "whole.qcow2", "")
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, 4)
	_, err = r.ReadAt(b, 19*mib+5)
	require.NoError(t, err)
	assert.Equal(t, "torn", string(b))

	// Whoever opens the source for writing is not kept waiting, and a change of owner or mode alone stops nothing.
	j = slow("touched.qcow2")
	soon(t, "opening the source for writing", 10*time.Second, func() {
		f, err := os.OpenFile(file, os.O_RDWR, 0)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	})
	require.NoError(t, os.Chmod(file, 0o640))
	assert.Equal(t, receipt.Proven, testkit.Proven(t, s.Service, j.Id).Outcome)
}
