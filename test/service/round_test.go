package service

import (
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// twoHosts is a service with machines on this computer, with the pool quay-store, and on the lighthouse, behind SSH, with the pool lamp-room.
func twoHosts(t *testing.T) (s *testkit.Service, here, there *daemon.Daemon) {
	t.Helper()
	s = start(t)
	here = daemon.JoinHere(t, s.Service, "quay-store")
	there, _ = daemon.JoinOver(t, s.Service, "lighthouse", "lamp-room")
	here.Guest(t, "ticketing", true)
	return s, here, there
}

// state is that of ticketing, empty where a host does not know it.
func state(t *testing.T, s *testkit.Service, on string) api.MachineState {
	t.Helper()
	m, err := s.Machine(t.Context(), on, "ticketing")
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
	require.Len(t, off.Remedies, 4)
	assert.JSONEq(t, `{"stop":true,"start":true}`, string(off.Remedies[0].Change))
	assert.JSONEq(t, `{"live":true,"start":null,"leave_source":null}`, string(off.Remedies[1].Change))
	assert.JSONEq(t, `{"stop":true,"start_first":true,"start":null,"leave_source":null}`, string(off.Remedies[2].Change))
	assert.JSONEq(t, `{"live":true,"keep_every":3600,"start":null,"leave_source":null}`, string(off.Remedies[3].Change))

	here.Settled(t, "ticketing")
	move.Stop, move.Start = true, true
	p, err = s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	assert.Equal(t, []string{"look", "fill", "secure", "prove", "publish"}, kinds(p.Plan)[1:6])
	assert.Equal(t, []string{"still", "define", "start", "watch", "compare", "part", "withdraw"}, kinds(p.Plan)[6:])
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

	assert.Equal(t, api.MachineStateRunning, state(t, s, "lighthouse"))
	assert.Empty(t, state(t, s, "local"), "its old host does not know it any more")
	now, err := s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, "lamp-room:ticketing/ticketing.qcow2 qcow2", *now.Disks[0].Pool+":"+*now.Disks[0].Path+" "+*now.Disks[0].Format)
	_, err = os.Stat(filepath.Join(here.Dir, "ticketing.raw"))
	require.NoError(t, err, "the old disk stays")
}

// TestTheRoundIsTakenBack: the machine is on the list of its old host again, with the disks that it had there, held or not, and not on that of
// the other, once it is off there.
func TestTheRoundIsTakenBack(t *testing.T) {
	t.Parallel()
	for _, release := range []bool{false, true} {
		s := start(t)
		quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
		standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
		quay.Ticketing(t, bootable())
		before, err := s.Machine(t.Context(), "quay", "ticketing")
		require.NoError(t, err)
		moved := testkit.Begin(t, s.Service, plan.Request{
			Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
			Start: true, Release: release,
		})
		testkit.Proven(t, s.Service, moved.Id)
		if release {
			held, err := s.Held(t.Context())
			require.NoError(t, err)
			require.Len(t, held, 1)
			require.NotNil(t, held[0].Machine, "its definition is held with its disk")
			assert.Equal(t, "quay:ticketing ticketing.machine.yaml", held[0].Machine.Machine+" "+held[0].Machine.File)
			was, err := machine.Describe("machine-file", []byte(held[0].Machine.Definition))
			require.NoError(t, err)
			assert.Equal(t, *before.Is, was)
		}
		undo := plan.Request{Kind: plan.Undo, Job: moved.Id}
		p, err := s.Plan(t.Context(), undo)
		require.NoError(t, err)
		assert.Contains(t, check(t, p.Plan, "off").Message, "shut it down first")
		require.True(t, p.Blocked)
		_, err = s.StopMachine(t.Context(), "lighthouse", "ticketing", 10, false)
		require.NoError(t, err)
		p, err = s.Plan(t.Context(), undo)
		require.NoError(t, err)
		require.False(t, p.Blocked, "%+v", p.Plan.Checks)
		back := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, undo).Id)
		require.Equal(t, api.JobStateDone, back.State)
		r, err := s.Receipt(t.Context(), back.Id)
		require.NoError(t, err)
		assert.Equal(t, "lighthouse:ticketing quay:ticketing", r.Machine.From+" "+r.Machine.To)
		assert.Empty(t, state(t, s, "lighthouse"))
		now, err := s.Machine(t.Context(), "quay", "ticketing")
		require.NoError(t, err)
		assert.Equal(t, before.Is, now.Is)
		started, err := s.StartMachine(t.Context(), "quay", "ticketing")
		require.NoError(t, err, "its disk is there")
		assert.Equal(t, api.MachineStateRunning, started.State)
	}
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

// TestStandInsAndRealHosts: a machine goes from a stand-in to a real host, where its definition becomes another one, and comes back.
func TestStandInsAndRealHosts(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	real := daemon.Start(t)
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Networks: []string{"pier"}})
	runs := "libvirt"
	_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &real.Socket})
	require.NoError(t, err)
	addPool(t, s.Service, "lamp-room", real.Dir)
	_, err = s.ChangePool(t.Context(), "lamp-room", api.PoolChange{Rules: plan.Rules{Owner: real.Owner, Mode: "0660"}})
	require.NoError(t, err)
	at := filepath.Join(quay.Folder, "ticketing.raw")
	require.NoError(t, os.WriteFile(at, bootable(), 0o600))
	definition := strings.Replace(standins.Definition("ticketing", standins.TicketingID, at, "raw"), "network: quay", "network: pier", 1)
	_, err = quay.Define([]byte(definition))
	require.NoError(t, err)

	there := plan.Request{
		Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "local", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
		Networks: map[string]string{"pier": ""},
	}
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, there).Id)
	assert.False(t, r.Machine.CameUp, "it was not to be started")
	m, err := s.Machine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, standins.TicketingID, m.Uuid, "a move keeps its identity")
	assert.Equal(t, "52:54:00:00:00:01 user", m.Is.Networks[0].MAC+" "+m.Is.Networks[0].Kind)
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	real.Settled(t, "ticketing")

	back := plan.Request{
		Kind: plan.CopyMachine, Machine: "local:ticketing", To: "quay", Destination: &plan.Place{Pool: "quay-store"}, As: "vhdx",
		Name: "ticketing-trial", Stop: true, Start: true,
	}
	r = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, back).Id)
	assert.True(t, r.Machine.CameUp)
	assert.NotEmpty(t, r.Machine.ScreenBefore)
	trial, err := s.Machine(t.Context(), "quay", "ticketing-trial")
	require.NoError(t, err)
	assert.NotEqual(t, standins.TicketingID, trial.Uuid, "a copy gets one of its own")
	assert.NotEqual(t, m.Is.Networks[0].MAC, trial.Is.Networks[0].MAC)
	assert.Equal(t, api.MachineStateRunning, state(t, s, "local"), "it was asked to end, and started again")
	assert.Equal(t, api.MachineStateRunning, trial.State)
}

// TestWhatIsFoundBefore a machine is moved: its name or network is not as it has to be there, or a disk lies nowhere known; and a remedy settles it.
func TestWhatIsFoundBefore(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	lighthouse := standins.Join(
		t,
		s.Service,
		"lighthouse",
		"lamp-room",
		standin.Traits{Networks: []string{"pier"}, Firmware: []string{"bios"}},
	)
	quay.Ticketing(t, bootable())
	at := filepath.Join(lighthouse.Folder, "x.raw")
	require.NoError(t, os.WriteFile(at, bootable(), 0o600))
	other := strings.Replace(
		standins.Definition("ticketing", "99999999-39b4-4e4b-9a53-6c3b5ad0a8f1", at, "raw"),
		"network: quay",
		"network: pier",
		1,
	)
	_, err := lighthouse.Define([]byte(other))
	require.NoError(t, err)
	move := plan.Request{Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}}
	p, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, p.Blocked)
	assert.JSONEq(t, `{"networks":{"quay":"pier"}}`, string(check(t, p.Plan, "network").Remedies[0].Change))
	assert.JSONEq(t, `{"name":"ticketing-2"}`, string(check(t, p.Plan, "name").Remedies[0].Change))
	assert.Contains(t, check(t, p.Plan, "identity").Message, "the network address 52:54:00:00:00:01 too")
	move.Name, move.Networks = "ticketing-2", map[string]string{"quay": "pier"}
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.Contains(t, r.Machine.Differences, machine.Difference{What: "name", Before: "ticketing", After: "ticketing-2"})

	copied := plan.Request{
		Kind: plan.CopyMachine, Machine: "lighthouse:ticketing-2", To: "quay", Destination: &plan.Place{Pool: "quay-store"}, Name: "trial",
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
	trial, err := s.Machine(t.Context(), "quay", "trial")
	require.NoError(t, err)
	renamed := *trial.Is
	renamed.Name = "trial-of-monday"
	text, err := machine.Become(nil, "", "machine-file", renamed)
	require.NoError(t, err)
	_, err = quay.Define(text)
	require.NoError(t, err)
	copied.Destination.Path = "again"
	p, err = s.Plan(t.Context(), copied)
	require.NoError(t, err)
	assert.False(t, p.Blocked, "another copy of that name is another machine: %+v", p.Plan.Checks)
	assert.NotEqual(t, trial.Uuid, p.Plan.Machine.After.UUID)

	for want, wrong := range map[string]plan.Request{
		"names no pool":          {Kind: plan.MoveMachine, Machine: "quay:x", To: "lighthouse", Destination: &plan.Place{}},
		"written HOST:NAME":      {Kind: plan.MoveMachine, Machine: "x", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}},
		"not found":              {Kind: plan.MoveMachine, Machine: "quay:gone", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}},
		"what is copied stays":   {Kind: plan.CopyMachine, Machine: "quay:x", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, Release: true},
		"held or left, not both": {Kind: plan.MoveMachine, Machine: "quay:x", To: "q", Destination: &plan.Place{Pool: "p"}, Release: true, LeaveSource: true},
	} {
		_, err := s.Plan(t.Context(), wrong)
		require.ErrorContains(t, err, want)
	}
}

// bootable is a disk that a guest starts from, which listens.
func bootable() []byte { return append(daemon.Boot(true), make([]byte, 2<<20)...) }

// TestMachinesBetweenKinds of hosts: from one with traits of its own to another, and to a real one and back, by each format that both take.
func TestMachinesBetweenKinds(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{Folders: true, Formats: []string{"vhdx", "vhd", "vdi", "vmdk"}})
	quay.Ticketing(t, bootable())
	_, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)

	from, to, pool := "quay", "lighthouse", "lamp-room"
	for _, as := range []string{"vhdx", "raw", "vmdk", "qcow2", "vdi", "raw"} {
		r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
			Kind: plan.MoveMachine, Machine: from + ":ticketing", To: to, Destination: &plan.Place{Pool: pool},
			As: as, Stop: true, Start: true, Release: true,
		}).Id)
		assert.True(t, r.Machine.CameUp)
		assert.Equal(t, api.MachineStateRunning, state(t, s, to))
		assert.Empty(t, state(t, s, from))
		if from, to, pool = to, from, "lamp-room"; to == "quay" {
			pool = "quay-store"
		}
	}
}

// TestAPlanForAHostThatRefuses to tell what its machines can have says so.
func TestAPlanForAHostThatRefuses(t *testing.T) {
	t.Parallel()
	s, _, there := twoHosts(t)
	there.Kill()
	knows := filepath.Join(filepath.Dir(there.Dir), "cache/libvirt/qemu/cache/capabilities") // what its emulators can, which it keeps
	require.NoError(t, os.Remove(knows))
	require.NoError(t, os.WriteFile(knows, nil, 0o600))
	require.NoError(t, there.Run())
	_, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.MoveMachine, Machine: "local:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"}, As: "qcow2",
	})
	require.ErrorContains(t, err, "the host refuses")
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusConflict, problem.Status)
}

// TestASilentHostIsAskedOnce by all who need it at about the same time, and again by whoever tries it out.
func TestASilentHostIsAskedOnce(t *testing.T) {
	t.Parallel()
	s := start(t)
	server := sshd.Start(t)
	between, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = between.Close() })
	var silent atomic.Bool
	var asked atomic.Int32
	go func() {
		for {
			conn, err := between.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { _ = conn.Close() })
			if silent.Load() {
				asked.Add(1)
				continue
			}
			there, err := net.Dial("tcp", server.Address)
			if err != nil {
				continue
			}
			go func() { _, _ = io.Copy(there, conn) }() // both end with the test
			go func() { _, _ = io.Copy(conn, there) }()
		}
	}()
	agent := false
	_, err = s.AddHost(t.Context(), api.NewHost{
		Name: "buoy", Kind: api.NewHostKindSftp, Address: between.Addr().String(), User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: ptr(string(server.Key)), Agent: &agent},
	})
	require.NoError(t, err)
	silent.Store(true)
	host := "buoy"
	for range 5 {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: "buoy-store", Host: &host, Folder: "/srv/buoy"})
		require.ErrorContains(t, err, "did not answer")
	}
	assert.EqualValues(t, 1, asked.Load())
	trial, err := s.TestHost(t.Context(), "buoy")
	require.NoError(t, err)
	assert.False(t, trial.Worked)
	assert.Greater(t, asked.Load(), int32(1))
}
