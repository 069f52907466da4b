package service

import (
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADaemonThatIsStartedAgain: the host that a machine goes to loses its daemon while the disk is carried; the job waits for it, goes on when it
// is there again, and ends as proven. Until then the machine is known where it was, and off.
func TestADaemonThatIsStartedAgain(t *testing.T) {
	t.Parallel()
	s, _, there := twoHosts(t)
	p, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.MoveMachine, Machine: "local:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
	})
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 2, Speed: 128 << 10}) // or it is done before the daemon is gone
	there.Kill()
	job, err := s.Start(t.Context(), api.NewJob{Plan: p.Id})
	if err != nil { // it is planned again with what is there
		require.NoError(t, there.Run())
		job, err = s.Start(t.Context(), api.NewJob{Plan: p.Id})
		require.NoError(t, err)
		there.Kill()
	}
	require.Eventually(t, func() bool {
		j, err := s.Job(t.Context(), job.Id)
		return err == nil && j.State == api.JobStatePaused && j.ByItself
	}, time.Minute, 50*time.Millisecond, "it waits by itself")
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 2})
	assert.Equal(t, api.MachineStateOff, state(t, s, "local"))
	require.NoError(t, there.Run())
	testkit.Proven(t, s.Service, job.Id)
	assert.Equal(t, api.MachineStateOff, state(t, s, "lighthouse"))
	assert.Empty(t, state(t, s, "local"))
}
