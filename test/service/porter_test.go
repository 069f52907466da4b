package service

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step/disks"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// annex is a service with a porter of that name, and a pool on its computer with a disk of so many bytes of noise.
func annex(t *testing.T, size int64) (s *testkit.Service, p *testkit.Porter, folder string) {
	t.Helper()
	s = testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", "127.0.0.1:0", "--checkpoint", "100ms")
	p = testkit.Join(t, s, "annex")
	folder = t.TempDir()
	testkit.Noise(t, filepath.Join(folder, "ticketing.raw"), size)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "annex-store", Host: ptr("annex"), Folder: folder})
	require.NoError(t, err)
	return s, p, folder
}

var toQcow2 = plan.Request{
	Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "annex-store", Path: "ticketing.raw"},
	Destination: &plan.Place{Pool: "annex-store", Path: "ticketing.qcow2"},
}

// TestAPorterDoesIt: what lies on the computer of a porter is converted, copied, moved, proven and taken back there, and does not go over its line.
func TestAPorterDoesIt(t *testing.T) {
	t.Parallel()
	const size = 48 << 20
	s, p, folder := annex(t, size)
	before := p.Line.Bytes.Load()
	for _, r := range []plan.Request{
		toQcow2,
		{Kind: plan.Prove, Source: *toQcow2.Destination, Tag: "beside"},
		{Kind: plan.Copy, Source: *toQcow2.Destination, Destination: &plan.Place{Pool: "annex-store", Path: "copy.qcow2"}},
		{Kind: plan.Copy, Release: true, Source: plan.Place{Pool: "annex-store", Path: "copy.qcow2"}, Destination: &plan.Place{Pool: "annex-store", Path: "moved/copy.qcow2"}},
	} {
		job := testkit.Begin(t, s.Service, r)
		require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, job.Id).State)
		done, err := s.Receipt(t.Context(), job.Id)
		require.NoError(t, err)
		assert.Equal(t, "annex", done.Porter, r.Kind)
		if !r.Release { // that gives files other names, and compares nothing
			assert.Equal(t, receipt.Proven, done.Outcome, r.Kind)
		}
	}
	assert.Less(t, p.Line.Bytes.Load()-before, int64(size/4), "what goes over the line")
	assert.FileExists(t, filepath.Join(folder, "moved", "copy.qcow2"))
	assert.NoDirExists(t, filepath.Join(folder, disks.StagingFolder))

	_, err := s.PausePorter(t.Context(), "annex", true)
	require.NoError(t, err)
	again := toQcow2
	again.Destination = &plan.Place{Pool: "annex-store", Path: "by-the-service.qcow2"}
	job := testkit.Begin(t, s.Service, again)
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Empty(t, done.Porter, "the service does it itself, over the line")
	assert.Greater(t, p.Line.Bytes.Load()-before, int64(2*size))
	assert.Contains(t, checkOf(t, *job.Plan), "The service does it: the porter annex is paused")
}

// checkOf is what a plan says of who does it.
func checkOf(t *testing.T, p plan.Plan) string {
	t.Helper()
	for _, c := range p.Checks {
		if c.Name == "porter" {
			return c.Message
		}
	}
	require.Fail(t, "nothing says who does it")
	return ""
}

// TestAPorterIsKilled: a job goes on from its last mark when its porter runs again, and the image is the one that was not interrupted.
func TestAPorterIsKilled(t *testing.T) {
	t.Parallel()
	s, p, folder := annex(t, 64<<20)
	slow := int64(6 << 20) // slow enough for several marks, however long the storage takes to sync
	job := testkit.Begin(t, s.Service, toQcow2)
	_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 24<<20 })
	p.Kill()
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	files, err := filepath.Glob(filepath.Join(folder, disks.StagingFolder, "*", "*"))
	require.NoError(t, err)
	assert.NotEmpty(t, files, "what it has done stays")
	p.Start()
	p.Connected(s)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool {
		return j.State == api.JobStateRunning && j.Progress != nil && j.Progress.Step == "fill" && j.Progress.Done > 0
	})
	none := int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, "annex", done.Porter)
	assert.Positive(t, done.Resumed)
	assert.NotContains(t, strings.Join(done.Remarks, "; "), "begun anew", "what was marked is not copied again")
	assert.NoDirExists(t, filepath.Join(folder, disks.StagingFolder))
}

// TestAPorterIsCutOff: it stops when its lease has run out, before the service gives the job away again, and goes on when the line is mended. A short cut is nothing.
func TestAPorterIsCutOff(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, p, folder := annex(t, 64<<20)
	slow := int64(4 << 20)
	job := testkit.Begin(t, s.Service, toQcow2)
	_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	far := func(n int64) func(api.Job) bool {
		return func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > n }
	}
	testkit.Await(t, s.Service, job.Id, far(4<<20))
	p.Line.Cut(true)
	p.Line.Cut(false)
	j := testkit.Await(t, s.Service, job.Id, far(12<<20))
	assert.Equal(t, api.JobStateRunning, j.State, "it went on")

	p.Line.Cut(true)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	staged := func() (at time.Time) {
		files, err := filepath.Glob(filepath.Join(folder, disks.StagingFolder, "*", "*"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			if info, err := os.Stat(f); assert.NoError(t, err) && info.ModTime().After(at) {
				at = info.ModTime()
			}
		}
		return at
	}
	assert.Less(t, staged(), time.Now().Add(-time.Second), "it has stopped before the job is anybody else's")
	p.Line.Cut(false)
	p.Connected(s)
	none := int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	_, _ = s.Resume(t.Context(), job.Id) // it may go on by itself already
	assert.Equal(t, "annex", testkit.Proven(t, s.Service, job.Id).Porter)
}

// TestAPorterIsCutOffWhileItWaits for what the limits let it read: it asks again.
func TestAPorterIsCutOffWhileItWaits(t *testing.T) {
	t.Parallel()
	s, p, _ := annex(t, 48<<20)
	testkit.Limit(t, s.Service, api.Limit{Scope: "pool", Name: "annex-store", Jobs: 2, Speed: 1 << 20})
	job := testkit.Begin(t, s.Service, toQcow2)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Step == plan.StepFill })
	time.Sleep(time.Second) // it has asked for its first 16 MiB, and waits
	p.Line.Cut(true)
	testkit.Limit(t, s.Service, api.Limit{Scope: "pool", Name: "annex-store", Jobs: 2})
	time.Sleep(time.Second) // a piece is waited for no longer: the answer is sent while nobody hears it
	p.Line.Cut(false)
	testkit.Proven(t, s.Service, job.Id)
}

// TestAServiceWithPortersIsStartedAgain: it is killed while a porter works; the job goes on, once.
func TestAServiceWithPortersIsStartedAgain(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state, "--porters", "127.0.0.1:0")
	i, err := s.InvitePorter(t.Context(), "annex")
	require.NoError(t, err)
	s.Stop()
	s = testkit.Start(t, state, "--porters", i.Listens, "--checkpoint", "100ms")
	p := testkit.Join(t, s, "annex")
	folder := t.TempDir()
	testkit.Noise(t, filepath.Join(folder, "ticketing.raw"), 48<<20)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "annex-store", Host: ptr("annex"), Folder: folder})
	require.NoError(t, err)
	job := testkit.Begin(t, s.Service, toQcow2)
	slow := int64(8 << 20)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 16<<20 })
	s.Kill()
	s = testkit.Start(t, state, "--porters", i.Listens, "--checkpoint", "100ms")
	none := int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	p.Connected(s)
	_, _ = s.Resume(t.Context(), job.Id) // it may go on by itself already
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, "annex", done.Porter)
	all, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, f := range all {
		assert.NotContains(t, f.Name(), "ticketing-2", "it is one image")
	}
}

// TestAPorterIsTold to stop: a job is paused and goes on, and a cancelled one leaves nothing.
func TestAPorterIsTold(t *testing.T) {
	t.Parallel()
	s, _, folder := annex(t, 48<<20)
	slow, none := int64(8<<20), int64(0)
	job := testkit.Begin(t, s.Service, toQcow2)
	_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	begun := func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 8<<20 }
	testkit.Await(t, s.Service, job.Id, begun)
	_, err = s.Pause(t.Context(), job.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	_, err = s.Resume(t.Context(), job.Id)
	require.NoError(t, err)
	testkit.Proven(t, s.Service, job.Id)

	other := toQcow2
	other.Destination = &plan.Place{Pool: "annex-store", Path: "other.qcow2"}
	job = testkit.Begin(t, s.Service, other)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, begun)
	_, err = s.Cancel(t.Context(), job.Id)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, job.Id).State)
	assert.NoFileExists(t, filepath.Join(folder, "other.qcow2"))
	assert.NoDirExists(t, filepath.Join(folder, disks.StagingFolder))
}

// TestWhoMayBeAPorter: an invitation is good once, and a porter that is revoked is let in no more.
func TestWhoMayBeAPorter(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", "127.0.0.1:0")
	i, err := s.InvitePorter(t.Context(), "annex")
	require.NoError(t, err)
	text, err := json.Marshal(i)
	require.NoError(t, err)
	dir := t.TempDir()
	file := filepath.Join(dir, "invitation")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	newer, err := s.InvitePorter(t.Context(), "annex")
	require.NoError(t, err, "one that was not used is worth nothing then")
	assert.NotEqual(t, i.Secret, newer.Secret)
	r := testkit.Run(t, dir, t.TempDir(), "porter", "--invitation", file)
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Notes, "the invitation is not good any more")

	p := testkit.Join(t, s, "annex")
	r = testkit.Run(t, dir, t.TempDir(), "porter", "--invitation", filepath.Join(p.State, "invitation"))
	assert.Contains(t, r.Notes, "the invitation is not good any more", "it was used")
	_, err = s.InvitePorter(t.Context(), "annex")
	assert.ErrorContains(t, err, "has joined already")
	_, err = s.InvitePorter(t.Context(), "Annex!")
	assert.ErrorContains(t, err, "small letters")

	require.NoError(t, s.RevokePorter(t.Context(), "annex"))
	tried, err := s.TestHost(t.Context(), "annex")
	require.NoError(t, err)
	assert.False(t, tried.Worked, "nothing can be reached there any more")
	_, err = s.Porter(t.Context(), "annex")
	assert.Error(t, err)
}

// TestStraightBetweenPorters: a disk that is copied or converted from the computer of one porter to that of another one goes straight between them, once, without its holes; where they do not reach each
// other it goes through the service.
func TestStraightBetweenPorters(t *testing.T) {
	t.Parallel()
	const size, length = 32 << 20, 1 << 30
	s, p, folder := annex(t, size)
	p.Stop()
	p.Flags("--peers", "127.0.0.1:0")
	p.Start()
	p.Connected(s)
	require.NoError(t, os.Truncate(filepath.Join(folder, "ticketing.raw"), length)) // the rest is a hole
	beacon := testkit.Join(t, s, "beacon")
	there := t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "beacon-store", Host: ptr("beacon"), Folder: there})
	require.NoError(t, err)
	before := p.Line.Bytes.Load() + beacon.Line.Bytes.Load()
	for _, r := range []plan.Request{
		{Kind: plan.Convert, As: "qcow2", Source: toQcow2.Source, Destination: &plan.Place{Pool: "beacon-store", Path: "ticketing.qcow2"}},
		{Kind: plan.Copy, Source: toQcow2.Source, Destination: &plan.Place{Pool: "beacon-store", Path: "ticketing.raw"}},
	} {
		job := testkit.Begin(t, s.Service, r)
		assert.Contains(t, checkOf(t, *job.Plan), "The porter beacon does it, and reads from the porter annex")
		done := testkit.Proven(t, s.Service, job.Id)
		assert.Equal(t, "beacon", done.Porter)
	}
	assert.Less(t, p.Line.Bytes.Load()+beacon.Line.Bytes.Load()-before, int64(size/4), "what goes through the service")
	want, err := os.ReadFile(filepath.Join(folder, "ticketing.raw"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(there, "ticketing.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))

	// It is moved: what the source was is held there with its tag, and comes back.
	deck := plan.Place{Pool: "annex-store", Path: "deck/ticketing.raw"}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{Kind: plan.Copy, Source: toQcow2.Source, Destination: &deck}).Id)
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Release: true, Source: deck, Destination: &plan.Place{Pool: "beacon-store", Path: "moved/ticketing.raw"},
	})
	assert.Equal(t, "beacon", testkit.Proven(t, s.Service, moved.Id).Porter)
	assert.NoFileExists(t, filepath.Join(folder, "deck", "ticketing.raw"))
	assert.NoFileExists(t, filepath.Join(folder, "deck", "ticketing.raw.bagtag"))
	got, err = os.ReadFile(filepath.Join(there, "moved", "ticketing.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	undo := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: moved.Id})
	require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, undo.Id).State)
	back, err := s.Receipt(t.Context(), undo.Id)
	require.NoError(t, err)
	assert.Equal(t, receipt.Unproven, back.Outcome, "files got their names back, and the service sees no identity of them")
	got, err = os.ReadFile(filepath.Join(folder, "deck", "ticketing.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	assert.FileExists(t, filepath.Join(folder, "deck", "ticketing.raw.bagtag"))
	assert.NoFileExists(t, filepath.Join(there, "moved", "ticketing.raw"))

	job := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		As:          "raw",
		Source:      plan.Place{Pool: "beacon-store", Path: "ticketing.qcow2"},
		Destination: &plan.Place{Pool: "annex-store", Path: "back.raw"},
	})
	assert.Contains(t, checkOf(t, *job.Plan), "the porter beacon lets no other porters read from it")
	assert.Empty(t, testkit.Proven(t, s.Service, job.Id).Porter)
}

// TestThePorterThatIsReadFromDies: the job waits for it, and goes on.
func TestThePorterThatIsReadFromDies(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, p, folder := annex(t, 48<<20)
	p.Stop()
	p.Flags("--peers", "127.0.0.1:0")
	p.Start()
	p.Connected(s)
	testkit.Join(t, s, "beacon")
	there := t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "beacon-store", Host: ptr("beacon"), Folder: there})
	require.NoError(t, err)
	job := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Source: toQcow2.Source, Destination: &plan.Place{Pool: "beacon-store", Path: "ticketing.raw"},
	})
	slow, none := int64(8<<20), int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 8<<20 })
	p.Kill()
	j := testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	assert.NotEmpty(t, j.Reason)
	p.Start()
	p.Connected(s)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	assert.Equal(t, "beacon", testkit.Proven(t, s.Service, job.Id).Porter)
	want, err := os.ReadFile(filepath.Join(folder, "ticketing.raw"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(there, "ticketing.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
}

// TestTwoPortersReachTheSameStorage: either does its work, the one with less to do first; a job that one began goes on with the other one when it is drained or dies, and with
// the service where nobody else is there.
func TestTwoPortersReachTheSameStorage(t *testing.T) {
	t.Parallel()
	const size = 48 << 20
	s, p, folder := annex(t, size)
	beacon := testkit.Join(t, s, "beacon")
	_, err := s.AddWay(t.Context(), "annex-store", api.Way{Host: "beacon", Folder: t.TempDir()})
	require.ErrorContains(t, err, "it is other storage")
	_, err = s.AddWay(t.Context(), "annex-store", api.Way{Host: "local", Folder: folder})
	require.ErrorContains(t, err, "another computer with a porter")
	shared := filepath.Join(t.TempDir(), "mounted")
	require.NoError(t, os.Symlink(folder, shared))
	pool, err := s.AddWay(t.Context(), "annex-store", api.Way{Host: "beacon", Folder: shared})
	require.NoError(t, err)
	require.Len(t, *pool.Ways, 1)

	slow, none := int64(8<<20), int64(0)
	begin := func(name string, change func(*plan.Request)) api.Job {
		r := toQcow2
		r.Destination = &plan.Place{Pool: "annex-store", Path: name}
		change(&r)
		job := testkit.Begin(t, s.Service, r)
		_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
		require.NoError(t, err)
		testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 8<<20 })
		return job
	}
	first := begin("first.qcow2", func(*plan.Request) {})
	assert.Contains(
		t,
		checkOf(t, *first.Plan),
		"The porter annex does it: all of it lies on its computer, and nothing that is copied goes over the line. beacon could, too.",
	)
	second, err := s.Plan(t.Context(), toQcow2)
	require.NoError(t, err)
	assert.Contains(
		t,
		checkOf(t, second.Plan),
		"The porter beacon does it: all of it lies on its computer, and nothing that is copied goes over the line. annex could, too, and has more to do: 1 jobs, and 0.",
	)
	pinned := toQcow2
	pinned.By = "annex"
	second, err = s.Plan(t.Context(), pinned)
	require.NoError(t, err)
	assert.Contains(
		t,
		checkOf(t, second.Plan),
		"The porter annex does it: all of it lies on its computer, and nothing that is copied goes over the line. So it was asked for.",
	)

	_, err = s.DrainPorter(t.Context(), "annex")
	require.NoError(t, err)
	second, err = s.Plan(t.Context(), pinned)
	require.NoError(t, err)
	assert.True(t, second.Blocked)
	assert.Contains(t, checkOf(t, second.Plan), "The porter annex is to do it, and cannot: the porter annex is paused.")
	p.Kill() // the service reaches the pool no more, and beacon does
	_, err = s.Change(t.Context(), first.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, s.Service, first.Id)
	assert.Equal(t, "beacon", done.Porter)
	assert.Positive(t, done.Resumed, "from its last mark")
	p.Start()
	require.Eventually(t, func() bool { // it is paused yet
		_, err := s.ListDisks(t.Context(), "annex-store", api.ListDisksParams{Refresh: ptr(true)})
		tried, testErr := s.TestHost(t.Context(), "annex")
		return errors.Join(err, testErr) == nil && tried.Worked
	}, 30*time.Second, 100*time.Millisecond)

	third := begin("third.qcow2", func(*plan.Request) {})
	assert.Equal(t, "beacon", third.Plan.Porter)
	_, err = s.PausePorter(t.Context(), "annex", false)
	require.NoError(t, err)
	beacon.Kill()
	_, err = s.Change(t.Context(), third.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done = testkit.Proven(t, s.Service, third.Id)
	assert.Equal(t, "annex", done.Porter, "the other one has died")

	fourth := begin("fourth.qcow2", func(*plan.Request) {})
	_, err = s.DrainPorter(t.Context(), "annex")
	require.NoError(t, err)
	_, err = s.Change(t.Context(), fourth.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done = testkit.Proven(t, s.Service, fourth.Id)
	assert.Empty(t, done.Porter, "the service itself, over the line")
	assert.Contains(t, done.Remarks, "it was begun anew since the source had changed", "which sees less of a file than its computer")
	require.NoError(t, s.RemoveWay(t.Context(), "annex-store", "beacon"))
}

// TestWhatLiesThereIsNotSent between two porters: an older copy, whatever its format, and other disks with the same content, as their tags say; what they say is not trusted.
func TestWhatLiesThereIsNotSent(t *testing.T) {
	t.Parallel()
	const size = 64 << 20
	s, p, folder := annex(t, size)
	p.Stop()
	p.Flags("--peers", "127.0.0.1:0")
	p.Start()
	p.Connected(s)
	testkit.Join(t, s, "beacon")
	there := t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "beacon-store", Host: ptr("beacon"), Folder: there})
	require.NoError(t, err)
	source := filepath.Join(folder, "ticketing.raw")
	spoil := func(file string, at int64) {
		f, err := os.OpenFile(file, os.O_WRONLY, 0)
		require.NoError(t, err)
		defer f.Close()
		_, err = f.WriteAt([]byte("spoilt"), at)
		require.NoError(t, err)
	}
	copied := plan.Request{
		Kind: plan.Copy, Source: toQcow2.Source, Destination: &plan.Place{Pool: "beacon-store", Path: "ticketing.raw"}, Replace: true,
	}
	converted := plan.Request{
		Kind: plan.Convert, As: "qcow2", Source: toQcow2.Source, Destination: &plan.Place{Pool: "beacon-store", Path: "ticketing.qcow2"},
	}
	same := func(name string) {
		t.Helper()
		want, err := os.ReadFile(source)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(there, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got))
	}
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
	assert.NotContains(t, strings.Join(done.Remarks, " "), "were not sent", "nothing lay there")
	spoil(source, 20<<20+77)
	done = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
	assert.Regexp(
		t,
		`(6[3-9]|7\d) MiB of the source were not sent, since content with the same digest lay here already`,
		done.Remarks,
		"and places that are read again",
	)
	same("ticketing.raw")

	spoil(filepath.Join(there, "ticketing.raw"), 40<<20) // behind the back of its tag
	done = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, converted).Id)
	assert.Equal(t, "beacon", done.Porter)
	assert.Regexp(
		t,
		`(6[3-9]|7\d) MiB of the source were not sent, since content with the same digest lay here already`,
		done.Remarks,
		"and places that are read again",
	)
	back := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "raw", Source: *converted.Destination, Destination: &plan.Place{Pool: "beacon-store", Path: "back.raw"},
	})
	testkit.Proven(t, s.Service, back.Id)
	same("back.raw")
}

// TestAPorterThatLies about what it wrote is found by a proof of somebody else.
func TestAPorterThatLies(t *testing.T) {
	t.Parallel()
	s, _, folder := annex(t, 16<<20)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, toQcow2).Id)
	file := filepath.Join(folder, "ticketing.qcow2")
	info, err := os.Stat(file)
	require.NoError(t, err)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	content[8<<20] ^= 1
	require.NoError(t, os.WriteFile(file, content, 0o600))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	job := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Prove, Source: *toQcow2.Destination, Tag: plan.TagBeside, By: plan.ByService})
	assert.Contains(t, checkOf(t, *job.Plan), "The service does it, as was asked for")
	testkit.Await(t, s.Service, job.Id)
	done, err := s.Receipt(t.Context(), job.Id)
	require.NoError(t, err)
	assert.Empty(t, done.Porter)
	assert.NotEqual(t, receipt.Proven, done.Outcome)
}

// TestPortersWorkSideBySide: the usual limit of the service is for what it does itself, and one that somebody has set for all.
func TestPortersWorkSideBySide(t *testing.T) {
	t.Parallel()
	s, _, _ := annex(t, 48<<20)
	testkit.Join(t, s, "beacon")
	there, here := t.TempDir(), t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "beacon-store", Host: ptr("beacon"), Folder: there})
	require.NoError(t, err)
	addPool(t, s.Service, "quay-store", here)
	for _, dir := range []string{there, here} {
		noise(t, dir, "ticketing.raw", 48<<20)
	}
	var all []string
	begin := func(pool string, count int) {
		testkit.Limit(t, s.Service, api.Limit{Scope: "pool", Name: pool, Speed: 4 << 20, Jobs: 2})
		for i := range count {
			all = append(all, testkit.Begin(t, s.Service, plan.Request{
				Kind: plan.Copy, Source: plan.Place{Pool: pool, Path: "ticketing.raw"},
				Destination: &plan.Place{Pool: pool, Path: fmt.Sprint("copy-", i, ".raw")},
			}).Id)
		}
	}
	begin("quay-store", 2)
	begin("annex-store", 2)
	begin("beacon-store", 3)
	running := func() (n int) {
		for _, id := range all {
			j, err := s.Job(t.Context(), id)
			require.NoError(t, err)
			if j.State == api.JobStateRunning {
				n++
			}
		}
		return n
	}
	require.Eventually(
		t,
		func() bool { return running() == 6 },
		20*time.Second,
		50*time.Millisecond,
		"two of the service, and two of each porter",
	)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	for _, id := range all[:6] {
		_, err := s.Cancel(t.Context(), id)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return running() == 1 }, 20*time.Second, 50*time.Millisecond)
}
