package service

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/storage/blocks"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/loops"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// gateKiosk is the drive of a kiosk: EFI, system and data partitions, and its names.
func gateKiosk(t *testing.T, sector int) *loops.Loop {
	t.Helper()
	return gateKioskAt(t, "--find", sector)
}

// gateKioskAt is that drive with a name of its own.
func gateKioskAt(t *testing.T, path string, sector int) *loops.Loop {
	t.Helper()
	l := loops.NewAt(t, path, 180<<20, sector, `label: gpt
start=1MiB, size=64MiB, type=U, name="boot"
start=65MiB, size=64MiB, type=L, name="system"
start=130MiB, size=48MiB, type=L, name="data"
`)
	l.Run("mkfs.vfat", "-F", "16", "-n", "BOOT", l.Part(1))
	l.Run("mkfs.ext4", "-q", "-L", "system", l.Part(2))
	l.Run("mkfs.ext4", "-q", "-L", "data", l.Part(3))
	for part, name := range map[int]string{2: "roster.db", 3: "secret.db"} {
		at, umount := l.Mount(part, "rw")
		require.NoError(t, os.MkdirAll(filepath.Join(at, "crew"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(at, "crew", name), bytes.Repeat([]byte(name+" of the kiosk. "), 20_000), 0o600))
		umount()
	}
	return l
}

// captured is the request for an image of a disk of this computer, without its data partition.
func captured(l *loops.Loop, name string) plan.Request {
	return plan.Request{
		Kind: plan.Convert, As: "qcow2", UsedOnly: true, Without: []string{"data"},
		Source: plan.Place{Pool: plan.DevicesOf("local"), Path: l.Name()}, Destination: &plan.Place{Pool: "quay-store", Path: name},
	}
}

// TestADeviceIsCaptured: a disk of the service's computer is listed with what is on it, and becomes an image that has all files of the partitions
// that travel, and nothing of the one that does not.
func TestADeviceIsCaptured(t *testing.T) {
	t.Parallel()
	for _, sector := range []int{512, 4096} {
		l := gateKiosk(t, sector)
		s := start(t)
		dir := t.TempDir()
		addPool(t, s.Service, "quay-store", dir)
		all, err := s.Devices(t.Context(), "local")
		require.NoError(t, err)
		i := slices.IndexFunc(all, func(d blocks.Seen) bool { return d.Path == l.Path })
		require.GreaterOrEqual(t, i, 0)
		d := all[i]
		assert.Equal(t, int64(180<<20), d.Size)
		assert.Equal(t, int64(sector), d.SectorSize)
		assert.Equal(t, l.File, d.Backing)
		assert.False(t, d.InUse)
		require.Len(t, d.Partitions, 3)
		system := d.Partitions[1]
		assert.Equal(t, "2 Linux system ext4 system", strings.Join([]string{"2", system.Type, system.Name, system.Filesystem, system.Label}, " "))
		assert.Equal(t, int64(65<<20), system.Offset)
		assert.Equal(t, int64(64<<20), system.Length)
		assert.Greater(t, system.Used, int64(300_000))
		assert.Less(t, system.Used, system.Length)

		itself := plan.Place{Pool: plan.DevicesOf("local"), Path: l.Name()}
		report, err := s.Look(t.Context(), itself)
		require.NoError(t, err)
		assert.Len(t, report.Inside.Partitions, 3)
		_, length, _, err := s.Take(t.Context(), itself, inspect.Spot{Partition: 2, Path: "crew/roster.db"})
		require.NoError(t, err)
		assert.Positive(t, length)
		p, err := s.Plan(t.Context(), captured(l, "kiosk.qcow2"))
		require.NoError(t, err)
		if said := strings.Contains(messages(p.Plan), "counts in sectors of 4096 bytes"); sector == 4096 {
			assert.True(t, said, "a machine with sectors of 512 bytes would see no partitions")
		} else {
			assert.False(t, said)
		}
		r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(l, "kiosk.qcow2")).Id)
		assert.Equal(t, "local:"+l.Path, r.Source.Place.String())
		assert.Greater(t, r.Skipped, int64(150<<20))
		require.Len(t, r.Partitions, 3)
		assert.Equal(
			t,
			[]string{inspect.StateClean, inspect.StateClean, ""},
			[]string{r.Partitions[0].State, r.Partitions[1].State, r.Partitions[2].State},
		)
		assert.True(t, r.Partitions[2].Left)
		image := plan.Place{Pool: "quay-store", Path: "kiosk.qcow2"}
		_, size, _, err := s.Take(t.Context(), image, inspect.Spot{Partition: 2, Path: "crew/roster.db"})
		require.NoError(t, err)
		assert.Equal(t, int64(len("roster.db of the kiosk. ")*20_000), size)
		_, _, _, err = s.Take(t.Context(), image, inspect.Spot{Partition: 3, Path: "crew/secret.db"})
		require.ErrorContains(t, err, "no filesystem that is known")
		content, err := os.ReadFile(filepath.Join(dir, "kiosk.qcow2"))
		require.NoError(t, err)
		assert.False(t, bytes.Contains(content, []byte("secret.db of the kiosk")))

		out := t.TempDir()
		run := testkit.Run(t, out, s.State, "capture", l.Path, "./on-the-spot.vhd", "--whole", "--yes")
		require.Zero(t, run.Code, run.Notes)
		assert.Contains(t, run.Out, "PROVEN")
		run = testkit.Run(t, out, s.State, "look", "./on-the-spot.vhd", "--inside", "3:/crew")
		assert.Contains(t, run.Out, "secret.db", "whole is whole")
		run = testkit.Run(t, out, s.State, "device", "show", "local:"+l.Path)
		assert.Contains(t, run.Out, "EFI system")
	}
}

// TestADeviceInUse is not captured, unless nothing can be written to it; and never onto itself.
func TestADeviceInUse(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	at, umount := l.Mount(2, "rw")
	said := func(r plan.Request) plan.Plan {
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		return p.Plan
	}
	p := said(captured(l, "kiosk.qcow2"))
	require.True(t, p.Blocked())
	assert.Contains(t, check(t, p, "in-use").Message, "its partition 2 is mounted at "+at+", for writing (umount "+at)
	all, err := s.Devices(t.Context(), "")
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(d blocks.Seen) bool { return d.Path == l.Path })
	assert.True(t, all[i].InUse)
	assert.Equal(t, at, all[i].Partitions[1].Uses[0].Where)

	own := "on-itself"
	_, err = s.AddPool(t.Context(), api.NewPool{Name: own, Folder: at})
	require.NoError(t, err)
	r := captured(l, "kiosk.qcow2")
	r.Destination.Pool = own
	assert.Contains(t, check(t, said(r), "destination").Message, "lies on the disk that is read")
	require.NoError(t, s.RemovePool(t.Context(), own)) // which has it open

	l.Run("mount", "-o", "remount,ro", at)
	p = said(captured(l, "kiosk.qcow2"))
	assert.False(t, p.Blocked(), "%+v", p.Checks)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(l, "read-only.qcow2")).Id)
	umount()

	for want, change := range map[string]func(*plan.Request){
		"is captured": func(r *plan.Request) {
			*r = plan.Request{Kind: plan.Copy, Source: r.Source, Destination: r.Destination}
		},
		"stays where it is":  func(r *plan.Request) { r.Release, r.Without = true, nil },
		"by writing it back": func(r *plan.Request) { r.Destination = &r.Source },
	} {
		r := captured(l, "wrong.qcow2")
		change(&r)
		_, err := s.Plan(t.Context(), r)
		require.ErrorContains(t, err, want)
	}
	r = captured(l, "x.qcow2")
	r.Source.Path = "loop999"
	p = said(r)
	assert.Contains(t, check(t, p, "source").Message, "/dev/loop999")
}

// TestAnotherDiskOfThatName: a disk that came in the place of the one that was planned with is not taken for it.
func TestAnotherDiskOfThatName(t *testing.T) {
	t.Parallel()
	l := gateKioskAt(t, "/dev/loop700", 512)
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	p, err := s.Plan(t.Context(), captured(l, "kiosk.qcow2"))
	require.NoError(t, err)
	require.False(t, p.Blocked)
	l.Again()
	_, err = s.Start(t.Context(), api.NewJob{Plan: p.Id})
	require.ErrorContains(t, err, "is another disk than the one that this was planned with")

	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 4 << 20})
	whole := captured(l, "kiosk.qcow2")
	whole.UsedOnly = false
	j := testkit.Begin(t, s.Service, whole)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 4<<20 })
	_, err = s.Pause(t.Context(), j.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	l.Again()
	_, err = s.Resume(t.Context(), j.Id)
	require.NoError(t, err)
	now := testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.StoppedBy != nil || j.Outcome != nil })
	require.NotNil(t, now.StoppedBy)
	assert.Contains(t, now.StoppedBy.Message, "is another disk than the one that this was planned with")
	_, err = s.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})

	assert.NoFileExists(t, filepath.Join(dir, "kiosk.qcow2"))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(l, "kiosk.qcow2")).Id)
}

// TestADeviceOfAnotherComputer, which is reached over SSH, is seen and captured like one of this; nothing is installed there.
func TestADeviceOfAnotherComputer(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	l := gateKiosk(t, 512)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	server := sshd.Start(t)
	key, agent, on := string(server.Key), false, "lighthouse"
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	all, err := s.Devices(t.Context(), on)
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(d blocks.Seen) bool { return d.Path == l.Path })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, "lighthouse", all[i].Host)
	require.Len(t, all[i].Partitions, 3)
	assert.Positive(t, all[i].Partitions[1].Used)
	r := captured(l, "far.qcow2")
	r.Source.Pool = plan.DevicesOf(on)
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, "lighthouse:"+l.Path, done.Source.Place.String())
	assert.Equal(t, inspect.StateClean, done.Partitions[1].State)
	here := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(l, "near.qcow2")).Id)
	assert.Equal(t, here.Source.Fingerprint, done.Source.Fingerprint)

	goesOnBehindACut(t, s, server, r)

	at, _ := l.Mount(2, "rw")
	own := "on-itself"
	_, err = s.AddPool(t.Context(), api.NewPool{Name: own, Host: &on, Folder: at})
	require.NoError(t, err)
	r.Destination = &plan.Place{Pool: own, Path: "x.qcow2"}
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.Contains(t, check(t, p.Plan, "in-use").Message, "its partition 2 is mounted at "+at)
	assert.Contains(t, check(t, p.Plan, "destination").Message, "lies on the disk that is read")
	require.NoError(t, s.RemovePool(t.Context(), own))
	lines, stop := writes(t, at)
	require.Eventually(t, func() bool { return lines() > 0 }, time.Minute, time.Millisecond)
	r.Destination, r.InUse = &plan.Place{Pool: "quay-store", Path: "frozen.qcow2"}, plan.InUseFreeze
	frozen := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, inspect.StateClean, frozen.Partitions[1].State, "it was frozen over there")
	now := lines()
	require.Eventually(t, func() bool { return lines() > now }, time.Minute, time.Millisecond, "and goes on")
	stop()

	run := testkit.Run(t, t.TempDir(), s.State, "device", "show", "lighthouse:"+l.Path)
	require.Zero(t, run.Code, run.Notes)
	assert.Contains(t, run.Out, "is mounted at "+at+", for writing")

	require.NoError(t, s.RemoveHost(t.Context(), on))
	_, err = s.Devices(t.Context(), on)
	require.ErrorContains(t, err, "not found")
}

// goesOnBehindACut cuts the line to a host while a disk of it is read.
func goesOnBehindACut(t *testing.T, s *testkit.Service, server *sshd.Server, r plan.Request) {
	t.Helper()
	r.UsedOnly, r.Destination = false, &plan.Place{Pool: "quay-store", Path: "cut.qcow2"}
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 20 << 20})
	id := testkit.Begin(t, s.Service, r).Id
	awaitJob(t, s.Service, id, far(20<<20))
	server.Kill()
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	j := awaitJob(t, s.Service, id, func(j api.Job) bool { return j.State != api.JobStateRunning })
	require.True(t, byItself(j), j.State)
	server.Run()
	resumed := testkit.Proven(t, s.Service, id)
	assert.Positive(t, resumed.Resumed, "it went on behind what was read before the line was cut")
	assert.Less(t, resumed.BytesRead, int64(2*180<<20))
}

// TestADeviceBySudo: a login without any rights of its own reads the disks of its computer by sudo, and freezes them; nothing is installed there. One that
// may not do that is told what to do.
func TestADeviceBySudo(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	l := gateKiosk(t, 512)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	server := sshd.Start(t)
	server.Crew("dd", "fsfreeze", "blockdev")
	key, agent, on := string(server.Key), false, "lighthouse"
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	all, err := s.Devices(t.Context(), on)
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(d blocks.Seen) bool { return d.Path == l.Path })
	require.GreaterOrEqual(t, i, 0)
	require.Len(t, all[i].Partitions, 3, all[i].Problem)
	r := captured(l, "far.qcow2")
	r.Source.Pool = plan.DevicesOf(on)
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	here := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, captured(l, "near.qcow2")).Id)
	assert.Equal(t, here.Source.Fingerprint, done.Source.Fingerprint)
	goesOnBehindACut(t, s, server, r)
	at, _ := l.Mount(2, "rw")
	lines, stop := writes(t, at)
	require.Eventually(t, func() bool { return lines() > 0 }, time.Minute, time.Millisecond)
	r.Destination, r.InUse = &plan.Place{Pool: "quay-store", Path: "frozen.qcow2"}, plan.InUseFreeze
	frozen := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, inspect.StateClean, frozen.Partitions[1].State)
	stop()

	server.Revoke()
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.True(t, p.Plan.Blocked())
	assert.Contains(t, messages(p.Plan), "sudo")
}

// TestADeviceThatIsWrittenTo while it is read: what was read is torn, and gets no name.
func TestADeviceThatIsWrittenTo(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 4 << 20})
	r := captured(l, "torn.qcow2")
	r.UsedOnly, r.Without = false, nil
	j := testkit.Begin(t, s.Service, r)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 4<<20 })
	f, err := os.OpenFile(l.Path, os.O_WRONLY|os.O_SYNC, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("somebody else"), 10<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	now := testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.StoppedBy != nil || j.Outcome != nil })
	require.NotNil(t, now.Outcome)
	assert.NotEqual(t, "proven", string(*now.Outcome))
	assert.NoFileExists(t, filepath.Join(dir, "torn.qcow2"))
}

// TestTheDiskOfTheService: nothing of the disk that the service's own state lies on is read through the service, by whatever name: its keys lie there.
func TestTheDiskOfTheService(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	at, _ := l.Mount(2, "rw")
	s := testkit.Start(t, filepath.Join(at, "state"))
	t.Cleanup(s.Stop) // before that is unmounted
	server := sshd.Start(t)
	key, agent, on := string(server.Key), false, "lighthouse"
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	for _, host := range []string{"local", on} {
		disk := plan.Place{Pool: plan.DevicesOf(host), Path: l.Name()}
		_, err := s.Inside(t.Context(), disk, inspect.Spot{Partition: 2, Path: "state"})
		require.ErrorContains(t, err, "own state lies on it", host)
		_, _, _, err = s.Take(t.Context(), disk, inspect.Spot{Partition: 2, Path: "state/token"})
		require.ErrorContains(t, err, "own state lies on it", host)
		_, err = s.Look(t.Context(), disk)
		require.ErrorContains(t, err, "own state lies on it", host)
		all, err := s.Devices(t.Context(), host)
		require.NoError(t, err)
		i := slices.IndexFunc(all, func(d blocks.Seen) bool { return d.Path == l.Path })
		assert.Contains(t, all[i].Problem, "own state lies on it")
		assert.Empty(t, all[i].Partitions)
		r := captured(l, "kiosk.qcow2")
		r.Source.Pool = disk.Pool
		r.Destination.Pool = "elsewhere-" + host
		addPool(t, s.Service, r.Destination.Pool, t.TempDir())
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		assert.Contains(t, check(t, p.Plan, "source").Message, "own state lies on it")
	}
}
