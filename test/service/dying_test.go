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

// TestADyingDiskInParts: what a capture leaves out is not taken for read by the next one, and does not come along from an earlier one. An image that
// was changed since its map was made is not gone on from.
func TestADyingDiskInParts(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	disk, err := os.ReadFile(l.File)
	require.NoError(t, err)
	const data, end = 130 << 20, 178 << 20 // the partition
	less := append([]byte{}, disk...)
	clear(less[data:end])
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	capture := func(to, from string, without []string) plan.Request {
		r := captured(l, to)
		r.As, r.UsedOnly, r.Without, r.Dying, r.GoOnFrom = "raw", false, without, true, from
		return r
	}
	for _, c := range []struct {
		to, from string
		without  []string
		want     []byte
	}{
		{"first.raw", "", []string{"data"}, less},
		{"second.raw", "first.raw", nil, disk},
		{"third.raw", "second.raw", []string{"data"}, less},
	} {
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, capture(c.to, c.from, c.without)).Id)
		got, err := os.ReadFile(filepath.Join(dir, c.to))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(c.want, got), c.to)
		text, err := os.Open(filepath.Join(dir, c.to+salvage.Extension))
		require.NoError(t, err)
		m, err := salvage.Parse(text)
		require.NoError(t, err)
		require.NoError(t, text.Close())
		assert.Equal(t, c.without != nil, len(m.Untried(data, end-data)) > 0, "the map of %s says what it has", c.to)
	}
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 60 << 20})
	j := testkit.Begin(t, s.Service, capture("stopped.raw", "", nil))
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > data+10<<20 })
	_, err = s.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, j.Id)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	on := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, capture("on.raw", "", []string{"data"})).Id)
	assert.Contains(t, strings.Join(on.Remarks, " "), "went on from what an earlier time had read")
	got, err := os.ReadFile(filepath.Join(dir, "on.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(less, got), "what was read of it before does not come along")

	f, err := os.OpenFile(filepath.Join(dir, "second.raw"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("somebody else"), 10<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	bad := ended(t, s.Service, capture("fourth.raw", "second.raw", nil))
	assert.Equal(t, receipt.Failed, bad.Outcome)
	assert.Contains(t, bad.Reason, "second.raw is not what it was when its map was made")
	assert.NoFileExists(t, filepath.Join(dir, "fourth.raw"))
}

// TestADeviceThatIsPulled while it is read is no damaged image, and has no places that cannot be read: the job waits for it.
func TestADeviceThatIsPulled(t *testing.T) {
	t.Parallel()
	for step, dying := range map[string]bool{plan.StepFill: false, plan.StepSalvage: true} {
		l := gateKiosk(t, 512)
		disk, err := os.ReadFile(l.File)
		require.NoError(t, err)
		s := start(t)
		dir := t.TempDir()
		addPool(t, s.Service, "quay-store", dir)
		r := captured(l, "kiosk.raw")
		r.As, r.UsedOnly, r.Without, r.Dying = "raw", false, nil, dying
		id := slowly(t, s.Service, r, 40<<20).Id
		awaitJob(t, s.Service, id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Step == step && j.Progress.Done > 60<<20 })
		require.NoError(t, os.Truncate(l.File, 0))
		l.Run("losetup", "--set-capacity", l.Path)
		j := awaitJob(t, s.Service, id, func(j api.Job) bool { return j.State != api.JobStateRunning })
		assert.True(t, byItself(j), j.State)
		assert.Contains(t, *j.Reason, "is not there any more")
		require.NoError(t, os.WriteFile(l.File, disk, 0o600))
		l.Run("losetup", "--set-capacity", l.Path)
		lift(t, s.Service, id)
		done := testkit.Proven(t, s.Service, id)
		assert.Empty(t, done.Unreadable)
		got, err := os.ReadFile(filepath.Join(dir, "kiosk.raw"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(disk, got))
	}
}
