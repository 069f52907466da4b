package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// suspending is a request that copies ticketing to the lighthouse while it is suspended.
func suspending(from string) plan.Request {
	return plan.Request{
		Kind:        plan.CopyMachine,
		Machine:     from + ":ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lamp-room"},
		Suspend:     true,
		Name:        "ticketing-trial",
	}
}

// TestACopyOfAMachineThatRuns: it is suspended while its disk is read, and goes on. The copy is what a power cut would leave: all that its guest
// had written up to a moment, and nothing from later. That is said, also in the tag.
func TestACopyOfAMachineThatRuns(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Writes: true})
	lighthouse := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, append(bootable(), make([]byte, 4<<20)...))
	_, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(written(t, quay)) > 50 }, time.Minute, 10*time.Millisecond, "its guest writes")

	r := suspending("quay")
	r.Suspend = false
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.True(t, p.Blocked)
	remedies := check(t, p.Plan, "off").Remedies
	require.Len(t, remedies, 2, "shut it down, or suspend it")
	assert.JSONEq(t, `{"suspend":true}`, string(remedies[1].Change))
	for _, nonsense := range []func(*plan.Request){
		func(r *plan.Request) { r.Kind = plan.MoveMachine },
		func(r *plan.Request) { r.Stop = true },
	} {
		r := suspending("quay")
		nonsense(&r)
		_, err := s.Plan(t.Context(), r)
		require.Error(t, err)
	}
	r = suspending("quay")
	r.Identity, r.Start = plan.KeepIdentity, true
	p, err = s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.True(t, p.Blocked, "both would run with one identity")

	r.Identity = ""
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	require.True(t, done.Machine.CameUp)
	assert.Contains(t, strings.Join(done.Machine.Evidence, "\n"), "what a power cut would leave")
	assert.Equal(t, "it has gone on", done.Machine.Source)
	assert.Contains(t, strings.Join(done.Machine.Console, "\n"), "ticketing-trial is up.")
	tag, err := os.ReadFile(filepath.Join(lighthouse.Folder, "ticketing-trial", "ticketing.raw.bagtag"))
	require.NoError(t, err)
	assert.Contains(t, string(tag), "as a power cut would leave it")
	m, err := s.Machine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, api.MachineStateRunning, m.State)
	before := len(log(t, quay))
	require.Eventually(t, func() bool { return len(log(t, quay)) > before+10 }, time.Minute, 10*time.Millisecond, "it goes on writing")

	image, err := os.ReadFile(filepath.Join(lighthouse.Folder, "ticketing-trial", "ticketing.raw"))
	require.NoError(t, err)
	present := func(w standin.Written) bool { return string(w.Sector()) == string(image[w.Offset:w.Offset+512]) }
	last := map[int64]standin.Written{}
	held := 0
	for i, w := range log(t, quay) { // up to the last write that the copy has
		if present(w) {
			held = i
		}
	}
	for _, w := range log(t, quay)[:held+1] {
		last[w.Offset] = w
	}
	for _, w := range last {
		assert.True(t, present(w), "what was written before the copy's last write is in it: %+v", w)
	}
}

// TestASuspendedMachineThatSomebodyLetsGoOn while its disk is read: the job does not go on with what is torn.
func TestASuspendedMachineThatSomebodyLetsGoOn(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Writes: true})
	lighthouse := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, append(bootable(), make([]byte, 30<<20)...))
	testkit.Noise(t, filepath.Join(quay.Folder, "noise"), 30<<20)
	noise, err := os.ReadFile(filepath.Join(quay.Folder, "noise"))
	require.NoError(t, err)
	quay.Ticketing(t, append(bootable(), noise...))
	_, err = s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 4 << 20})
	j := testkit.Begin(t, s.Service, suspending("quay"))
	require.Eventually(t, func() bool {
		m, err := s.Machine(t.Context(), "quay", "ticketing")
		return err == nil && m.State == api.MachineStateSuspended
	}, time.Minute, 10*time.Millisecond)
	_, err = quay.Resume(standin.Which{Name: "ticketing"})
	require.NoError(t, err)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	now := testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.StoppedBy != nil || j.Outcome != nil })
	if now.Outcome != nil {
		assert.NotEqual(t, "proven", string(*now.Outcome))
	}
	assert.NoFileExists(t, filepath.Join(lighthouse.Folder, "ticketing-trial", "ticketing.raw"), "nothing torn gets a name")
	assert.Empty(t, lighthouse.List())
}

// TestACopyOfARealMachineThatRuns: the daemon suspends it, has its disk open meanwhile, and lets it go on; the copy comes up elsewhere.
func TestACopyOfARealMachineThatRuns(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, _ := twoHosts(t)
	_, err := s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Settled(t, "ticketing")
	r := suspending("local")
	r.Start, r.As = true, "qcow2"
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.True(t, done.Machine.CameUp)
	assert.Equal(t, api.MachineStateRunning, state(t, s, "local"))
	both, err := s.Machine(t.Context(), "lighthouse", "ticketing-trial")
	require.NoError(t, err)
	assert.Equal(t, api.MachineStateRunning, both.State)

	there := testkit.Run(t, t.TempDir(), s.State, "host", "storage", "lighthouse")
	require.Zero(t, there.Code, there.Notes)
	assert.Contains(t, there.Out, "No storage pools of its own")
}
