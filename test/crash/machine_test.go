package crash

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/bootcode"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMachinesKilledAtAnyMoment: the service that moves a machine which runs is killed at points that it passes, those at hosts each; after the
// restart the move ends as proven, with the machine up in its new place and unknown in its old one. Never do both run, which both hosts are asked
// all along.
func TestMachinesKilledAtAnyMoment(t *testing.T) {
	kills := 4
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_KILLS")); err == nil {
		kills = n / 5
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	points := filepath.Join(t.TempDir(), "points")
	m := newRound(t)
	require.Equal(t, "proven", string(m.run("", points)))
	m.ended("without a kill")
	b, err := os.ReadFile(points)
	require.NoError(t, err)
	passed := strings.Split(strings.TrimSpace(string(b)), "\n")
	var at []string // points at hosts, each passed once
	for _, when := range []string{" before", " after"} {
		for _, what := range []string{"shut down", "define", "start", "forget machine"} {
			require.Contains(t, passed, what+when)
			at = append(at, what+when+":1")
		}
	}
	sure := len(at)
	for range kills {
		if pick := passed[random.IntN(len(passed))] + ":" + strconv.Itoa(1+random.IntN(2)); !slices.Contains(at, pick) {
			at = append(at, pick)
		}
	}
	for i, at := range at {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			m := newRound(t)
			outcome := m.run(at, "")
			require.False(t, i < sure && outcome != "", "it was not killed")
			if outcome == "" {
				require.Equal(t, "proven", string(m.run("", "")))
			}
			m.ended(at)
		})
	}
}

// TestASuspendedMachineGoesOn: the service that copies a machine which runs is killed around its being suspended and going on; after the restart
// the copy ends as proven, and the machine runs.
func TestASuspendedMachineGoesOn(t *testing.T) {
	for _, at := range []string{"", "suspend before:1", "suspend after:1", "define before:1", "start before:1", "start after:1"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			m := newRound(t)
			m.request = plan.Request{
				Kind: plan.CopyMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
				Suspend: true, Name: "ticketing-trial",
			}
			outcome := m.run(at, "")
			require.Equal(t, at == "", outcome != "", "it is killed where that is asked for")
			if outcome == "" {
				outcome = m.run("", "")
			}
			require.Equal(t, "proven", string(outcome))
			close(m.done)
			m.watch.Wait()
			source, copied := m.quay.List(), m.lighthouse.List()
			require.Len(t, source, 1)
			assert.Equal(t, host.Running, source[0].State)
			require.Len(t, copied, 1)
			assert.Equal(t, host.Off, copied[0].State)
			assert.NotEqual(t, standins.TicketingID, copied[0].UUID)
		})
	}
}

// round is a machine that moves from the quay to the lighthouse.
type round struct {
	t                *testing.T
	request          plan.Request
	quay, lighthouse *standins.Host
	state            string
	watch            sync.WaitGroup
	done             chan struct{}
	twice            bool
}

func newRound(t *testing.T) *round {
	m := &round{t: t, state: filepath.Join(t.TempDir(), "state"), done: make(chan struct{})}
	m.request = plan.Request{
		Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
		Stop: true, Start: true,
	}
	s := testkit.Start(t, m.state)
	m.quay = standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	m.lighthouse = standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{Asks: true})
	s.Stop()
	m.quay.Ticketing(t, append(bootcode.Sector("up", 0, true), make([]byte, 2*mib)...))
	_, err := m.quay.Start(t.Context(), standin.Which{Name: "ticketing"})
	require.NoError(t, err)
	m.watch.Go(func() {
		for {
			select {
			case <-m.done:
				return
			case <-time.After(5 * time.Millisecond):
			}
			if running(m.quay) && running(m.lighthouse) && running(m.quay) { // it may have been switched between the two answers
				m.twice = true
			}
		}
	})
	return m
}

func running(h *standins.Host) bool {
	return slices.ContainsFunc(h.List(), func(e standin.Entry) bool { return e.State == host.Running })
}

// run runs the service until the move has ended, or until it is killed at a point; then the outcome is empty.
func (m *round) run(killAt, points string) api.JobOutcome {
	s := testkit.StartBinary(
		m.t, testkit.Torture(m.t), []string{"BAGAGLIO_KILL_AT=" + killAt, "BAGAGLIO_POINTS=" + points}, m.state, "--checkpoint", "15ms",
	)
	defer s.Kill()
	return outcome(m.t, s, m.request)
}

// ended fails unless the machine is up in its new place, and only there.
func (m *round) ended(what string) {
	m.t.Helper()
	close(m.done)
	m.watch.Wait()
	assert.False(m.t, m.twice, "%s: both ran", what)
	assert.Empty(m.t, m.quay.List(), what)
	all := m.lighthouse.List()
	require.Len(m.t, all, 1, what)
	assert.Equal(m.t, host.Running, all[0].State, what)
	assert.Equal(m.t, standins.TicketingID, all[0].UUID, what)
	assert.FileExists(m.t, filepath.Join(m.quay.Folder, "ticketing.raw"), what)
}
