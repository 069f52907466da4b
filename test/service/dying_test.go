package service

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/salvage"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADyingDisk: all that can be read of it is read, what cannot be is told by its file, and nothing is called proven. It is interrupted, and goes on. A
// later time takes what the earlier image has, and tries only the rest.
func TestADyingDisk(t *testing.T) {
	t.Parallel()
	board, err := os.ReadFile(tideBoardIn(t, t.TempDir()))
	require.NoError(t, err)
	drive := testkit.NewDrive(t, "drive", int64(len(board)))
	_, err = drive.WriteAt(board, 0)
	require.NoError(t, err)
	hurt := int64(bytes.Index(board, []byte("00030000,"))) / 4096 * 4096
	drive.Scratch(hurt, 8192)
	l := loops.Of(t, drive.Path)
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	r := captured(&loops.Loop{Path: l.Path}, "kiosk.qcow2")
	r.Without, r.Dying, r.UsedOnly = nil, true, false

	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 20 << 20})
	j := testkit.Begin(t, s.Service, r)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool {
		return j.Progress != nil && j.Progress.Step == plan.StepSalvage && j.Progress.Done > 8<<20
	})
	_, err = s.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, j.Id)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	done := ended(t, s.Service, r)
	require.Equal(t, receipt.Damaged, done.Outcome, done.Reason)
	assert.Contains(t, strings.Join(done.Remarks, " "), "went on from what an earlier time had read")
	assert.Less(t, done.Steps[1].Bytes, int64(len(board))-4<<20, "not all of it again")
	assert.Equal(t, []fingerprint.Range{{Offset: hurt, Length: 8192}}, done.Unreadable)
	require.Len(t, done.Damage, 1)
	assert.Equal(t, []string{"srv/tides.csv"}, done.Damage[0].Files)
	text, err := os.ReadFile(filepath.Join(dir, "kiosk.qcow2"+salvage.Extension))
	require.NoError(t, err)
	assert.Contains(t, string(text), "bagaglio map 1\ndisk ")
	left, err := os.ReadDir(filepath.Join(s.State, "scratch"))
	require.NoError(t, err)
	assert.Empty(t, left)

	drive.Heal()
	drive.Scratch(0, 1<<20) // what was read before is not read again
	again := r
	again.Destination = &plan.Place{Pool: "quay-store", Path: "mended.raw"}
	again.As, again.GoOnFrom = "raw", "kiosk.qcow2"
	mended := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, again).Id)
	assert.Contains(t, strings.Join(mended.Doubts, " "), "was taken from that image")
	now, err := os.ReadFile(filepath.Join(dir, "mended.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(board, now))
}
