package service

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// twoHosts is a service with machines on this computer, with the pool quay-store, and on the lighthouse, behind SSH, with the pool lamp-room.
func twoHosts(t *testing.T) (s *testkit.Service, here, there *daemon.Daemon) {
	t.Helper()
	here, there = daemon.Start(t), daemon.Start(t)
	here.Guest(t, "ticketing", true)
	s = start(t)
	server := sshd.Start(t)
	runs, key, agent, on := "libvirt", string(server.Key), false, "lighthouse"
	_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &here.Socket})
	require.NoError(t, err)
	_, err = s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	_, err = s.ChangeHost(t.Context(), on, api.HostChange{Runs: &runs, Socket: &there.Socket})
	require.NoError(t, err)
	addPool(t, s.Service, "quay-store", here.Dir)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "lamp-room", Host: &on, Folder: there.Dir})
	require.NoError(t, err)
	_, err = s.ChangePool(t.Context(), "lamp-room", api.PoolChange{Rules: plan.Rules{Owner: there.Owner, Mode: "0660"}})
	require.NoError(t, err)
	return s, here, there
}

// state is that of a machine, empty where its host does not know it.
func state(t *testing.T, s *testkit.Service, on, name string) api.MachineState {
	t.Helper()
	m, err := s.Machine(t.Context(), on, name)
	if err != nil {
		require.ErrorContains(t, err, "not found")
		return ""
	}
	return m.State
}

// TestTheRound: a machine that runs is shut down, its disk converted and proven, it is made known to another host, comes up there and is
// compared, and its old host does not know it any more.
func TestTheRound(t *testing.T) {
	t.Parallel()
	s, here, _ := twoHosts(t)
	move := plan.Request{
		Kind: plan.MoveMachine, Machine: "local:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
	}
	_, err := s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	p, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, p.Blocked, "it runs")
	off := check(t, p.Plan, "off")
	require.Len(t, off.Remedies, 1)
	assert.JSONEq(t, `{"stop":true,"start":true}`, string(off.Remedies[0].Change))

	require.Eventually(t, func() bool { // so that there is something to compare with
		picture, err := s.Screen(t.Context(), "local", "ticketing")
		return err == nil && len(picture) > 0
	}, time.Minute, 100*time.Millisecond)
	move.Stop, move.Start = true, true
	p, err = s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	assert.Equal(t, []string{"look", "fill", "secure", "prove", "publish"}, kinds(p.Plan)[1:6])
	assert.Equal(t, []string{"define", "start", "watch", "compare", "withdraw"}, kinds(p.Plan)[6:])
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	m := r.Machine
	require.NotNil(t, m)
	assert.True(t, m.CameUp)
	assert.True(t, m.WasRunning)
	assert.NotEmpty(t, m.Evidence)
	assert.NotEmpty(t, m.Screen)
	assert.Empty(t, m.Unasked)
	require.Len(t, r.Parts, 1)
	assert.Equal(t, receipt.Proven, r.Parts[0].Outcome)

	assert.Equal(t, api.MachineStateRunning, state(t, s, "lighthouse", "ticketing"))
	assert.Empty(t, state(t, s, "local", "ticketing"), "its old host does not know it any more")
	now, err := s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, "lamp-room:ticketing/ticketing.qcow2 qcow2", *now.Disks[0].Pool+":"+*now.Disks[0].Path+" "+*now.Disks[0].Format)
	_, err = os.Stat(filepath.Join(here.Dir, "ticketing.raw"))
	require.NoError(t, err, "the old disk stays")
}

func kinds(p plan.Plan) (all []string) {
	for _, s := range p.Steps {
		all = append(all, s.Kind)
	}
	return all
}

// check is the one of that name.
func check(t *testing.T, p plan.Plan, name string) plan.Check {
	t.Helper()
	for _, c := range p.Checks {
		if c.Name == name {
			return c
		}
	}
	require.Fail(t, "no such check", "%s in %+v", name, p.Checks)
	return plan.Check{}
}
