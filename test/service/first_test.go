package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// startFirst is a request to have the machine that counts start on the other host before its disks are there.
func startFirst() plan.Request {
	return plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "local:ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room"},
		As:          "qcow2",
		StartFirst:  true,
		Stop:        true,
	}
}

// countingOn are two hosts, on the first of which a machine counts.
func countingOn(t *testing.T) (s *testkit.Service, here, there *daemon.Daemon) {
	t.Helper()
	s, here, there = twoHosts(t)
	here.Disk(t, "ticketing.raw", daemon.Counts(8<<20))
	_, err := s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Loaded(t, "ticketing")
	return s, here, there
}

// runsAlone: the machine is stored in its new disk alone, and nothing of the job is left.
func runsAlone(t *testing.T, s *testkit.Service, here, there *daemon.Daemon) {
	t.Helper()
	m, err := s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, api.MachineStateRunning, m.State)
	assert.Equal(t, filepath.Join(there.Dir, "ticketing/ticketing.qcow2"), m.Is.Disks[0].File)
	left, err := filepath.Glob(filepath.Join(there.Dir, "ticketing/*-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = s.StopMachine(t.Context(), "lighthouse", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(
		t,
		daemon.Counted(t, read(t, there.Dir, "ticketing/ticketing.qcow2")),
		daemon.Counted(t, read(t, here.Dir, "ticketing.raw")),
	)
	_, err = s.StartMachine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err, "it needs nothing of its old host any more")
}

// TestAMachineStartsFirst on another host, from its disks where they lie, over SSH: it works there before they are copied, and goes over to its new ones while it runs.
func TestAMachineStartsFirst(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, there := countingOn(t)
	p, err := s.Plan(t.Context(), startFirst())
	require.NoError(t, err)
	require.False(t, p.Blocked, messages(p.Plan))
	kinds := testkit.Kinds(p.Plan)
	assert.Less(t, strings.Index(strings.Join(kinds, " "), "watch"), strings.Index(strings.Join(kinds, " "), "fill"))
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, startFirst()).Id)
	assert.True(t, done.Machine.CameUp)
	assert.Positive(t, done.StoppedMs)
	t.Logf("it stood still for %d ms", done.StoppedMs)
	assert.Contains(t, done.Compared, "what was written since its host has carried over, and it was not read")
	assert.Empty(t, state(t, s, "local"))
	assert.FileExists(t, filepath.Join(here.Dir, "ticketing.raw"), "nobody asked for it to be held")
	runsAlone(t, s, here, there)
}

// TestAMachineThatStartedFirstGoesOn: where the service is killed while its disks are copied, its guest is suspended, and goes on when that is back; and so does the job.
func TestAMachineThatStartedFirstGoesOn(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, there := countingOn(t)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Speed: 1 << 20}) // its disk takes some seconds
	id := testkit.Begin(t, s.Service, startFirst()).Id
	testkit.Await(t, s.Service, id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Step == plan.StepFill })
	s.Kill()
	s = testkit.Start(t, s.State)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service"})
	done := testkit.Proven(t, s.Service, id)
	assert.True(t, done.Machine.CameUp)
	runsAlone(t, s, here, there)
}

// TestAMachineThatStartedFirstGoesBack: where the job is cancelled before it has gone over, it is started where it was, as it was; what its guest wrote there is told, and stays.
func TestAMachineThatStartedFirstGoesBack(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, _, there := countingOn(t)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Speed: 1 << 20})
	id := testkit.Begin(t, s.Service, startFirst()).Id
	testkit.Await(t, s.Service, id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Step == plan.StepFill })
	_, err := s.Cancel(t.Context(), id)
	require.NoError(t, err)
	j := testkit.Await(t, s.Service, id)
	assert.Equal(t, api.JobStateCancelled, j.State)
	assert.Equal(t, api.MachineStateRunning, state(t, s, "local"))
	assert.Empty(t, state(t, s, "lighthouse"))
	written, err := filepath.Glob(filepath.Join(there.Dir, "ticketing/*-meanwhile.qcow2"))
	require.NoError(t, err)
	require.Len(t, written, 1)
	info, err := os.Stat(written[0])
	require.NoError(t, err)
	assert.Positive(t, info.Size())
	done, err := s.Receipt(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(done.Machine.Evidence, "; "), "what its guest wrote on lighthouse stays in lamp-room:ticketing/ticketing-")
	require.Eventually(t, func() bool { return state(t, s, "local") == api.MachineStateRunning }, time.Minute, 100*time.Millisecond)
}

// TestWhatDoesNotStartFirst is said before.
func TestWhatDoesNotStartFirst(t *testing.T) {
	t.Parallel()
	s, _, _ := twoHosts(t)
	for _, change := range []func(*plan.Request){
		func(r *plan.Request) { r.To, r.Destination = "local", &plan.Place{Pool: "quay-store"} },
		func(r *plan.Request) { r.Live, r.Stop = true, false },
		func(r *plan.Request) { r.Name = "other" },
		func(r *plan.Request) { r.Changes.Memory = 1 << 30 },
	} {
		r := startFirst()
		change(&r)
		_, err := s.Plan(t.Context(), r)
		require.Error(t, err)
	}
}
