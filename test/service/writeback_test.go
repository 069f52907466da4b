package service

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ontoKiosk is the request to write an image back onto a disk of this computer.
func ontoKiosk(l *loops.Loop, size int64) plan.Request {
	return plan.Request{
		Kind: plan.WriteBack, Source: plan.Place{Pool: "quay-store", Path: "kiosk.qcow2"},
		Destination: &plan.Place{Pool: plan.DevicesOf("local"), Path: l.Name()}, ConfirmSerial: strconv.FormatInt(size, 10),
	}
}

// TestAnImageIsWrittenBack: a captured drive is written onto a larger one, with a partition less than it had: the system's own tools find the table at
// the end of the disk, clean filesystems, and the files. On the spot, and only what differs, too.
func TestAnImageIsWrittenBack(t *testing.T) {
	t.Parallel()
	const larger = 230 << 20
	from, to := gateKiosk(t, 512), loops.New(t, larger, 512, "label: dos\nstart=2048, size=100MiB, type=83\n")
	to.Run("mkfs.ext4", "-q", "-L", "old-gate", to.Part(1))
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(from, "kiosk.qcow2")).Id)

	p, err := s.Plan(t.Context(), ontoKiosk(to, larger))
	require.NoError(t, err)
	require.False(t, p.Plan.Blocked(), messages(p.Plan))
	assert.Contains(t, messages(p.Plan), `Partition 1 (ext4, "old-gate")`)
	was, err := os.ReadFile(to.File)
	require.NoError(t, err)
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, ontoKiosk(to, larger)).Id)
	assert.Equal(t, r.Source.Fingerprint, r.Destination.Fingerprint)
	assert.Contains(t, strings.Join(r.Remarks, " "), "reaches to the end of the disk now")
	for end, content := range map[string][]byte{".first": was[:1<<20], ".last": was[larger-1<<20:]} {
		names, err := filepath.Glob(filepath.Join(s.State, "saved", to.Name()+"-*"+end))
		require.NoError(t, err)
		require.Len(t, names, 1)
		saved, err := os.ReadFile(names[0])
		require.NoError(t, err)
		assert.Equal(t, content, saved)
	}
	check := func() {
		to.Run("sfdisk", "--verify", to.Path)
		to.Rescan()
		to.Run("e2fsck", "-f", "-n", to.Part(2))
		at, umount := to.Mount(2, "ro")
		content, err := os.ReadFile(filepath.Join(at, "crew", "roster.db"))
		require.NoError(t, err)
		assert.Len(t, content, len("roster.db of the kiosk. ")*20_000)
		umount()
	}
	check()

	run := testkit.Run(
		t,
		dir,
		s.State,
		"write-back",
		"./kiosk.qcow2",
		to.Path,
		"--confirm-serial",
		strconv.Itoa(larger),
		"--differing-only",
		"--wipe", "zeros",
		"--yes",
	)
	require.Zero(t, run.Code, run.Notes)
	assert.Contains(t, run.Out, "PROVEN")
	assert.Contains(t, run.Out, "behind the image were wiped, and read back as zeros")
	now, err := os.ReadFile(to.File)
	require.NoError(t, err)
	assert.Empty(t, strings.Trim(string(now[180<<20:larger-1<<20]), "\x00"), "up to the table at the end of the disk")
	check()
	run = testkit.Run(t, dir, s.State, "job", "undo", "2", "--yes")
	assert.NotZero(t, run.Code)
	assert.Contains(t, run.Notes, "cannot be taken back")
}

// TestWhatIsNotWrittenOver: a disk that was not confirmed, is another one than that, is in use, is too small, has changed its name since, or that the
// service's own state lies on; and an image goes onto a disk in no other way.
func TestWhatIsNotWrittenOver(t *testing.T) {
	t.Parallel()
	const size = 180 << 20
	from := gateKiosk(t, 512)
	to := loops.NewAt(t, "/dev/loop61", size, 512, "label: gpt\nstart=1MiB, size=100MiB, type=L\n")
	to.Run("mkfs.ext4", "-q", to.Part(1))
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(from, "kiosk.qcow2")).Id)
	blocked := func(r plan.Request, why string) {
		t.Helper()
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		assert.True(t, p.Plan.Blocked())
		assert.Contains(t, messages(p.Plan), why)
	}
	r := ontoKiosk(to, size)
	r.ConfirmSerial = ""
	blocked(r, "Say that you mean this disk by its size in bytes")
	r.ConfirmSerial = "K7-2204"
	blocked(r, "K7-2204 was confirmed, and this is another disk")
	at, umount := to.Mount(1, "ro")
	blocked(ontoKiosk(to, size), "mounted at "+at)
	umount()
	small := loops.New(t, 100<<20, 512, "label: gpt\nstart=1MiB, size=10MiB, type=L\n")
	blocked(ontoKiosk(small, 100<<20), "Make a smaller one first: bagaglio resize IMAGE NEW --size 104857600")

	before, err := os.ReadFile(to.File)
	require.NoError(t, err)
	p, err := s.Plan(t.Context(), ontoKiosk(to, size))
	require.NoError(t, err)
	to.Again()
	_, err = s.Start(t.Context(), api.NewJob{Plan: p.Id})
	require.ErrorContains(t, err, "is another disk than the one that this was planned with")
	convert := captured(from, "kiosk.raw")
	convert.Destination, convert.As = &plan.Place{Pool: plan.DevicesOf("local"), Path: to.Name()}, "raw"
	_, err = s.Plan(t.Context(), convert)
	require.ErrorContains(t, err, "an image goes onto a disk of a computer by writing it back")
	after, err := os.ReadFile(to.File)
	require.NoError(t, err)
	assert.Equal(t, before, after, "nothing was written")
}
