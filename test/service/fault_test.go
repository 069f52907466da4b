package service

import (
	"bytes"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/fingerprint"
	"bagaglio/internal/demo"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// mount mounts a filesystem of its own, which takes root.
func mount(t *testing.T, source, dir, kind, options string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting a filesystem takes root")
	}
	if err := unix.Mount(source, dir, kind, 0, options); err != nil {
		t.Skipf("mounting %s is not possible here: %v", kind, err)
	}
	t.Cleanup(func() { _ = unix.Unmount(dir, unix.MNT_DETACH) }) // it may be mounted no more
}

func addPool(t *testing.T, s *client.Service, name, folder string) {
	t.Helper()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Folder: folder})
	require.NoError(t, err)
}

// byItself is a job that has paused, and goes on when the reason is gone.
func byItself(j api.Job) bool { return j.State == api.JobStatePaused && j.ByItself }

// lift takes the limit of a job's speed away.
func lift(t *testing.T, s *client.Service, id string) {
	t.Helper()
	none := int64(0)
	_, err := s.Change(t.Context(), id, api.JobChange{Speed: &none})
	require.NoError(t, err)
}

// TestDestinationFillsUpAndHasRoomAgain: the job pauses with the reason, and goes on by itself from where it was.
func TestDestinationFillsUpAndHasRoomAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	mount(t, "none", dir, "tmpfs", "size=160m")
	s := start(t)
	quay := s.Pool("quay-store")
	addPool(t, s.Service, "lighthouse-store", dir)
	noise(t, quay, "cargo-ledger.raw", 80*mib)
	id := slowly(t, s.Service, convert("cargo-ledger.raw", "cargo-ledger.qcow2", "qcow2"), 20*mib).Id
	awaitJob(t, s.Service, id, far(30*mib))
	filler := filepath.Join(dir, "filler")
	out, err := exec.Command("sh", "-c", "cat /dev/zero > "+filler+" 2>&1; true").CombinedOutput()
	require.NoError(t, err, "%s", out)
	j := awaitJob(t, s.Service, id, byItself)
	assert.Contains(t, *j.Reason, "the destination is full: make room")
	require.NoError(t, os.Remove(filler))
	lift(t, s.Service, id)
	receipt := testkit.Proven(t, s.Service, id)
	assert.Positive(t, receipt.Resumed)
	assert.Less(t, receipt.BytesRead, int64(2*80*mib+60*mib))
}

// TestDestinationBecomesReadOnly, and writable again.
func TestDestinationBecomesReadOnly(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	mount(t, "none", dir, "tmpfs", "size=160m")
	s := start(t)
	quay := s.Pool("quay-store")
	addPool(t, s.Service, "lighthouse-store", dir)
	noise(t, quay, "cargo-ledger.raw", 60*mib)
	id := slowly(t, s.Service, convert("cargo-ledger.raw", "cargo-ledger.vhdx", "vhdx"), 20*mib).Id
	awaitJob(t, s.Service, id, far(30*mib))
	_, err := s.Pause(t.Context(), id) // nothing may be open for writing
	require.NoError(t, err)
	awaitJob(t, s.Service, id, inState(api.JobStatePaused))
	require.NoError(t, unix.Mount("none", dir, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	_, err = s.Resume(t.Context(), id)
	require.NoError(t, err)
	j := awaitJob(t, s.Service, id, byItself)
	assert.Contains(t, *j.Reason, "remount it writable")
	require.NoError(t, unix.Mount("none", dir, "tmpfs", unix.MS_REMOUNT, ""))
	lift(t, s.Service, id)
	assert.Positive(t, testkit.Proven(t, s.Service, id).Resumed)
}

// TestStagingFolderIsRemoved by somebody who tidies up: the job begins anew and ends well.
func TestStagingFolderIsRemoved(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "cargo-ledger.raw", 40*mib)
	id := slowly(t, s.Service, convert("cargo-ledger.raw", "cargo-ledger.qcow2", "qcow2"), 20*mib).Id
	awaitJob(t, s.Service, id, far(8*mib))
	require.NoError(t, os.RemoveAll(filepath.Join(lighthouse, ".bagaglio")))
	awaitJob(t, s.Service, id, byItself)
	lift(t, s.Service, id)
	receipt := testkit.Proven(t, s.Service, id)
	assert.Contains(t, strings.Join(receipt.Remarks, "\n"), "begun anew since its files were gone")
}

// asks is a job that waits for an answer.
func asks(j api.Job) bool { return j.State == api.JobStateAsking }

// TestUnreadableDrive: at real errors of reading a job asks, also after the service was killed, and goes on as it is answered; or on request
// it goes on past them at once. It lists each range and what lies there, and never ends as proven.
func TestUnreadableDrive(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	made, err := demo.MakeDisk(t.Context(), dir, "tide-board")
	require.NoError(t, err)
	content, err := os.ReadFile(made)
	require.NoError(t, err)
	drive := testkit.NewDrive(t, "tide-board.raw", int64(len(content)))
	_, err = drive.WriteAt(content, 0)
	require.NoError(t, err)
	bad := []fingerprint.Range{{Offset: 3*mib + 512, Length: 1024}, {Offset: 40*mib + 4096, Length: 512}}
	for _, r := range bad {
		drive.Scratch(r.Offset, r.Length)
	}
	s := start(t)
	addPool(t, s.Service, "quay-store", filepath.Dir(drive.Path))
	lighthouse := s.Pool("lighthouse-store")
	request := convert("tide-board.raw", "tide-board.raw", "raw")
	j := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request).Id, asks)
	assert.Equal(t, api.JobStateAsking, j.State)
	assert.Equal(t, []api.JobAction{api.ActAnswer, api.ActCancel}, j.Actions)
	assert.Contains(t, j.Question.Text, "reading the source at offset")
	assert.Contains(t, j.Question.Text, "input/output error")
	shown := testkit.Run(t, dir, s.State, "job", "follow", j.Id)
	assert.Equal(t, 3, shown.Code)
	assert.Contains(t, shown.Notes, "bagaglio job answer "+j.Id+" zeros")
	s.Kill()
	s = testkit.Start(t, s.State)
	_, err = s.Answer(t.Context(), j.Id, "maybe")
	require.ErrorContains(t, err, "answer again or zeros")
	_, err = s.Answer(t.Context(), j.Id, "again")
	require.NoError(t, err)
	j = testkit.Await(t, s.Service, j.Id, asks)
	assert.Equal(t, api.JobStateAsking, j.State, "it cannot be read now either")
	require.Equal(t, 0, testkit.Run(t, dir, s.State, "job", "answer", j.Id, "zeros").Code)
	_, err = s.Answer(t.Context(), j.Id, "zeros")
	require.ErrorContains(t, err, "asks nothing")
	answered := testkit.Await(t, s.Service, j.Id)
	assert.Equal(t, api.JobOutcomeDamaged, *answered.Outcome)
	done, err := s.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	assert.Equal(t, bad, done.Unreadable)
	assert.Contains(t, strings.Join(done.Remarks, "\n"), "the answer to what to do about it was to put zeros there")
	request.Destination.Path = "cancelled.raw"
	j = testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request).Id, asks)
	_, err = s.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, j.Id).State)
	left, err := filepath.Glob(filepath.Join(lighthouse, ".bagaglio", "staging", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	request.PastDamage, request.Destination.Path, request.Replace = true, "tide-board.raw", true
	j = testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request).Id)
	assert.Equal(t, api.JobStateDone, j.State)
	assert.Equal(t, api.JobOutcomeDamaged, *j.Outcome)
	assert.Contains(t, j.Progress.Strip, "x")
	receipt, err := s.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	assert.Equal(t, bad, receipt.Unreadable)
	require.NotEmpty(t, receipt.Damage)
	assert.Regexp(t, `on partition \d`, receipt.Damage[0].What)
	for _, r := range bad {
		clear(content[r.Offset : r.Offset+r.Length])
	}
	copied, err := os.ReadFile(filepath.Join(lighthouse, "tide-board.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, copied), "everything else arrived")
	shown = testkit.Run(t, dir, s.State, "job", "follow", j.Id)
	assert.Equal(t, 4, shown.Code)
	assert.Contains(t, shown.Notes, "done with damage")
}

// TestPulledDrive: a destination that is pulled in the middle and plugged in again: the job goes on from what is on it.
func TestPulledDrive(t *testing.T) {
	t.Parallel()
	drive := testkit.NewDrive(t, "seabag", 256*mib)
	dir := t.TempDir()
	plug := func() (loop string) {
		out, err := exec.Command("losetup", "--find", "--show", drive.Path).CombinedOutput()
		if err != nil {
			t.Skipf("attaching a loop device is not possible here: %s", out)
		}
		return strings.TrimSpace(string(out))
	}
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	loop := plug()
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", loop).Run() })
	run("mkfs.ext4", "-q", "-U", "11111111-2222-3333-4444-555555555555", loop)
	mount(t, loop, dir, "ext4", "")
	s := start(t)
	quay := s.Pool("quay-store")
	addPool(t, s.Service, "seabag", dir)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo-ledger.raw"), random(100*mib), 0o600))
	request := convert("cargo-ledger.raw", "cargo-ledger.qcow2", "qcow2")
	request.Destination.Pool = "seabag"
	id := slowly(t, s.Service, request, 25*mib).Id
	awaitJob(t, s.Service, id, far(50*mib))
	drive.Pull(true)
	j := awaitJob(t, s.Service, id, byItself)
	assert.Contains(t, *j.Reason, "goes on by itself")
	require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH))
	require.NoError(t, exec.Command("losetup", "-d", loop).Run())
	// What lies under the folder now is another storage, to which nothing is written.
	before, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, before)

	drive.Pull(false)
	loop = plug()
	_ = exec.Command("e2fsck", "-fy", loop).Run() // it says 1 when it has repaired something
	mount(t, loop, dir, "ext4", "")
	lift(t, s.Service, id)
	receipt := testkit.Proven(t, s.Service, id)
	assert.Positive(t, receipt.Resumed)
	assert.Empty(t, receipt.Remarks, "it went on from what was there")
	s.Stop() // it may have files open there
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return b
}
