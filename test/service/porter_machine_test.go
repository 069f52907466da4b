package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// runsMachines has a stand-in run machines on the computer of a porter, whose pool is called after it.
func runsMachines(t *testing.T, s *testkit.Service, porter string) *standins.Host {
	t.Helper()
	h := standins.Start(t, t.TempDir(), standin.Traits{})
	_, err := s.ChangeHost(t.Context(), porter, api.HostChange{Runs: ptr("standin"), Machines: &h.URL})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: porter + "-machines", Host: &porter, Folder: h.Folder})
	require.NoError(t, err)
	return h
}

// TestAMachineGoesBetweenPorters: its disks go straight, its definition and its power are the service's business; it is started and seen to come up. It comes back, and is taken back
// where it does not start.
func TestAMachineGoesBetweenPorters(t *testing.T) {
	t.Parallel()
	const size = 48 << 20
	s, p, _ := annex(t, 1<<20)
	p.Stop()
	p.Flags("--peers", "127.0.0.1:0")
	p.Start()
	p.Connected(s)
	beacon := testkit.Join(t, s, "beacon")
	here, there := runsMachines(t, s, "annex"), runsMachines(t, s, "beacon")
	disk := standins.Boots(size)
	testkit.Noise(t, filepath.Join(here.Folder, "noise"), size-4<<20)
	content, err := os.ReadFile(filepath.Join(here.Folder, "noise"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(here.Folder, "noise")))
	copy(disk[1<<20:], content)
	here.Ticketing(t, disk)
	before := p.Line.Bytes.Load() + beacon.Line.Bytes.Load()
	move := plan.Request{
		Kind: plan.MoveMachine, Machine: "annex:ticketing", To: "beacon", Destination: &plan.Place{Pool: "beacon-machines"},
		Networks: map[string]string{"quay": "quay"}, Start: true, Release: true,
	}
	asked := move
	asked.By = plan.ByService
	kept, err := s.Plan(t.Context(), asked)
	require.NoError(t, err)
	assert.Contains(t, checkOf(t, kept.Plan), "The service does it, as was asked for")
	job := testkit.Begin(t, s.Service, move)
	assert.Contains(t, checkOf(t, *job.Plan), "The porter beacon does it, and reads from the porter annex")
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, "beacon", done.Porter)
	assert.True(t, done.Machine.CameUp)
	assert.True(t, done.Machine.Defined)
	assert.Less(t, p.Line.Bytes.Load()+beacon.Line.Bytes.Load()-before, int64(size/2), "what goes through the service")
	_, err = s.Machine(t.Context(), "annex", "ticketing")
	require.Error(t, err, "it is not there any more")
	m, err := s.Machine(t.Context(), "beacon", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, api.MachineStateRunning, m.State)
	assert.Equal(t, filepath.Join(there.Folder, "ticketing", "ticketing.raw"), m.Is.Disks[0].File)
	assert.NoFileExists(t, filepath.Join(here.Folder, "ticketing.raw"), "its disk is held")
}

// TestAMachineOfAPorterIsGoneOnWith after the porter was killed in the middle, and a move that is cancelled leaves all as it was.
func TestAMachineOfAPorterIsGoneOnWith(t *testing.T) {
	t.Parallel()
	const size = 32 << 20
	s, p, _ := annex(t, 1<<20)
	here := runsMachines(t, s, "annex")
	there := filepath.Join(here.Folder, "dry")
	disk := standins.Boots(size)
	for i := 1 << 20; i < size; i += 512 {
		disk[i] = byte(i>>9) | 1
	}
	here.Ticketing(t, disk)
	move := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "annex:ticketing",
		To:          "annex",
		Destination: &plan.Place{Pool: "annex-machines", Path: "dry"},
		As:          "qcow2",
		Start:       true,
	}
	slow := func() api.Job {
		t.Helper()
		job := testkit.Begin(t, s.Service, move)
		assert.Contains(t, checkOf(t, *job.Plan), "The porter annex does it")
		speed := int64(4 << 20)
		_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &speed})
		require.NoError(t, err)
		return testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 4<<20 })
	}
	cancelled := slow()
	_, err := s.Cancel(t.Context(), cancelled.Id)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, cancelled.Id).State)
	m, err := s.Machine(t.Context(), "annex", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(here.Folder, "ticketing.raw"), m.Is.Disks[0].File)
	entries, err := os.ReadDir(there)
	if err == nil {
		assert.Empty(t, entries)
	}

	job := slow()
	p.Kill()
	p.Start()
	p.Connected(s)
	none := int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, "annex", done.Porter)
	assert.Positive(t, done.Resumed)
	assert.True(t, done.Machine.CameUp)
	m, err = s.Machine(t.Context(), "annex", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(there, "ticketing.qcow2"), m.Is.Disks[0].File)
}

// TestAMachineStartsUnderAPorter: the disk that it copies is in use then, and no proof comes of it.
func TestAMachineStartsUnderAPorter(t *testing.T) {
	t.Parallel()
	const size = 32 << 20
	s, _, _ := annex(t, 1<<20)
	here := runsMachines(t, s, "annex")
	here.Ticketing(t, standins.Boots(size))
	job := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "annex-machines", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "annex-store", Path: "copy.raw"},
	})
	assert.Contains(t, checkOf(t, *job.Plan), "The porter annex does it")
	testkit.Proven(t, s.Service, job.Id)

	again := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "annex-machines", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "annex-store", Path: "again.raw"},
	})
	speed, none := int64(4<<20), int64(0)
	_, err := s.Change(t.Context(), again.Id, api.JobChange{Speed: &speed})
	require.NoError(t, err)
	testkit.Await(t, s.Service, again.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 4<<20 })
	_, err = s.StartMachine(t.Context(), "annex", "ticketing")
	require.NoError(t, err)
	_, err = s.Change(t.Context(), again.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	stopped := testkit.Await(t, s.Service, again.Id, func(j api.Job) bool {
		return j.State != api.JobStateWaiting && j.State != api.JobStateRunning
	})
	require.NotEqual(t, api.JobStateDone, stopped.State)
	require.NotNil(t, stopped.Reason)
	assert.Contains(t, *stopped.Reason, "it is in use")
}

// TestAPorterMovesStorageWhileAGuestWrites: what is copied stays on its computer, the guest goes on all the while, and no write is lost.
func TestAPorterMovesStorageWhileAGuestWrites(t *testing.T) {
	s, p, _ := annex(t, 1<<20)
	c := startCountingOn(t, s, "annex")
	before := p.Line.Bytes.Load()
	move := liveMove("qcow2")
	move.Machine, move.To = "annex:ticketing", "annex"
	job := testkit.Begin(t, s.Service, move)
	assert.Contains(t, checkOf(t, *job.Plan), "The porter annex does it")
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, "annex", done.Porter)
	assert.True(t, done.Machine.CameUp)
	assert.Less(t, p.Line.Bytes.Load()-before, int64(8<<20), "what goes over the line")
	c.writes(t)
	m, err := s.Machine(t.Context(), "annex", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(c.gallery, "ticketing", "ticketing.qcow2"), m.Is.Disks[0].File)
	_, err = s.StopMachine(t.Context(), "annex", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Positive(t, daemon.Counted(t, read(t, c.gallery, "ticketing/ticketing.qcow2")), "of which none is missing")
}
