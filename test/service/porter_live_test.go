package service

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apart are two computers with porters and real machines, of which one counts on the first.
type apart struct {
	kept
	annex, beacon *testkit.Porter
	before        int64 // what had gone over the lines to the service when it was set up
}

func startApart(t *testing.T) apart {
	t.Helper()
	s, p, _ := annex(t, 1<<20)
	p.Stop()
	p.Flags("--peers", "127.0.0.1:0")
	p.Start()
	p.Connected(s)
	a := apart{kept: kept{Service: s}, annex: p, beacon: testkit.Join(t, s, "beacon")}
	a.here, a.there = a.runs(t, "annex"), a.runs(t, "beacon")
	a.here.Guest(t, "ticketing", true)
	a.here.Disk(t, "ticketing.raw", daemon.Counts(24<<20))
	_, err := s.StartMachine(t.Context(), "annex", "ticketing")
	require.NoError(t, err)
	a.here.Loaded(t, "ticketing")
	return a
}

// runs starts a daemon on the computer of a porter, whose pool is called after it.
func (a apart) runs(t *testing.T, on string) *daemon.Daemon {
	t.Helper()
	d, kind := daemon.Start(t), "libvirt"
	_, err := a.ChangeHost(t.Context(), on, api.HostChange{Runs: &kind, Socket: &d.Socket})
	require.NoError(t, err)
	_, err = a.AddPool(t.Context(), api.NewPool{Name: on + "-machines", Host: &on, Folder: d.Dir})
	require.NoError(t, err)
	_, err = a.ChangePool(t.Context(), on+"-machines", api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}})
	require.NoError(t, err)
	return d
}

// lines is what has gone over the lines to the service.
func (a apart) lines() int64 { return a.annex.Line.Bytes.Load() + a.beacon.Line.Bytes.Load() }

// begin begins to move it to the other computer while it runs.
func (a apart) begin(t *testing.T, change func(*plan.Request)) apart {
	t.Helper()
	r := liveMove("qcow2")
	r.Machine, r.To, r.Destination = "annex:ticketing", "beacon", &plan.Place{Pool: "beacon-machines"}
	change(&r)
	a.before = a.lines()
	job := testkit.Begin(t, a.Service.Service, r)
	assert.Contains(t, checkOf(t, *job.Plan), "The porter beacon does it, and reads from the porter annex")
	a.job = job.Id
	return a
}

// arrived checks that it runs in its new place alone, that nothing is left over, and that it has every number.
func (a apart) arrived(t *testing.T, counted uint32) {
	t.Helper()
	assert.Empty(t, state(t, a.Service, "annex"))
	assert.Equal(t, api.MachineStateRunning, state(t, a.Service, "beacon"))
	for _, dir := range []string{a.here.Dir, filepath.Join(a.there.Dir, "ticketing")} {
		left, err := filepath.Glob(filepath.Join(dir, "*-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	_, err := a.StopMachine(t.Context(), "beacon", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, a.there.Dir, "ticketing/ticketing.qcow2")), counted)
}

// TestAGuestMovesBetweenPorters while it runs: what is copied goes straight between them, with its memory or without; no number is missing that it wrote.
func TestAGuestMovesBetweenPorters(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(*plan.Request){
		"shut down for a moment": func(*plan.Request) {},
		"with its memory":        func(r *plan.Request) { r.WithMemory = true },
	} {
		t.Run(name, func(t *testing.T) {
			fewer.Sometimes(t)
			a := startApart(t).begin(t, change)
			done := testkit.Proven(t, a.Service.Service, a.job)
			assert.Equal(t, "beacon", done.Porter)
			assert.True(t, done.Machine.CameUp)
			assert.Contains(t, done.Compared, "each MiB that was written to since")
			evidence := strings.Join(done.Machine.Evidence, "; ")
			assert.Contains(t, evidence, "was handed over with the fingerprint bf1-")
			if name == "with its memory" {
				assert.Contains(t, evidence, "it went on from what it had in memory")
			}
			t.Logf("%d KiB went over the lines to the service; it stood still for %d ms", (a.lines()-a.before)>>10, done.StoppedMs)
			assert.Less(t, a.lines()-a.before, int64(4<<20), "what goes through the service: looks, definitions, what covers the old disk")
			a.arrived(t, 60)
		})
	}
}

// TestAGuestOfAPorterGoesOn where its move is cancelled in the middle, or the porter that does it is killed: nothing of what it wrote is lost either way.
func TestAGuestOfAPorterGoesOn(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	a := startApart(t)
	slow := func() apart {
		t.Helper()
		now := a.begin(t, func(*plan.Request) {})
		speed := int64(2 << 20)
		_, err := a.Change(t.Context(), now.job, api.JobChange{Speed: &speed})
		require.NoError(t, err)
		testkit.Await(t, a.Service.Service, now.job, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 2<<20 })
		return now
	}
	cancelled := slow()
	_, err := a.Cancel(t.Context(), cancelled.job)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateCancelled, testkit.Await(t, a.Service.Service, cancelled.job).State)
	assert.Equal(t, api.MachineStateRunning, state(t, a.Service, "annex"))
	left, err := filepath.Glob(filepath.Join(a.here.Dir, "*-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	now := slow()
	a.beacon.Kill()
	a.beacon.Start()
	a.beacon.Connected(a.Service)
	none := int64(0)
	_, err = a.Change(t.Context(), now.job, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, a.Service.Service, now.job)
	assert.Positive(t, done.Resumed)
	now.arrived(t, 60)
}

// TestACopyIsKeptBetweenPorters, and goes over without the old computer, where that is gone with its porter: the service asks then.
func TestACopyIsKeptBetweenPorters(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	a := startApart(t).begin(t, func(r *plan.Request) { r.KeepEvery = 3600 })
	said := a.copied(t, step.Question{})
	first := a.counts(t)
	a.here.Loaded(t, "ticketing")
	require.Eventually(t, func() bool {
		j, err := a.Job(t.Context(), a.job)
		return err == nil && j.Behind != nil && *j.Behind.Bytes > 0
	}, time.Minute, 50*time.Millisecond, "how far it is behind the service sees")
	a.answer(t, "again")
	said = a.copied(t, said)
	counted := a.counts(t)
	assert.Greater(t, counted, first)
	assert.Less(t, a.lines()-a.before, int64(6<<20), "what goes through the service")

	a.here.Kill()
	a.annex.Kill()
	a.answer(t, "again")
	said = a.copied(t, said)
	require.Contains(t, said.Text, "annex is not to be reached")
	a.answer(t, "without")
	done := testkit.Proven(t, a.Service.Service, a.job)
	assert.True(t, done.Machine.CameUp)
	_, err := a.StopMachine(t.Context(), "beacon", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, a.there.Dir, "ticketing/ticketing.qcow2")), counted)
}
