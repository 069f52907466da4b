package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADiskOfARunningMachine on another host, whose storage cannot tell that it is in use, is in use by what runs there: in plans, and where a
// plan that was made before is started. A host that cannot be asked counts as one that uses it, until it is said to run none.
func TestADiskOfARunningMachine(t *testing.T) {
	t.Parallel()
	there := daemon.Start(t)
	there.Guest(t, "tide-board", false)
	s := start(t)
	server := sshd.Start(t)
	key, agent, runs, on, nothing := string(server.Key), false, "libvirt", "lighthouse", ""
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	_, err = s.ChangeHost(t.Context(), on, api.HostChange{Runs: &runs, Socket: &there.Socket})
	require.NoError(t, err)
	aside := filepath.Join(filepath.Dir(there.Dir), "aside")
	require.NoError(t, os.Mkdir(aside, 0o755))
	for name, folder := range map[string]string{"lamp-room": there.Dir, "attic": aside} {
		_, err = s.AddPool(t.Context(), api.NewPool{Name: name, Host: &on, Folder: folder})
		require.NoError(t, err)
	}
	addPool(t, s.Service, "seabag", t.TempDir())
	copied := plan.Request{
		Kind: plan.Convert, Source: plan.Place{Pool: "lamp-room", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "seabag", Path: "tide-board.qcow2"}, As: "qcow2",
	}
	early, err := s.Plan(t.Context(), copied)
	require.NoError(t, err)
	require.False(t, early.Blocked, "%+v", early.Plan.Checks)

	_, err = s.StartMachine(t.Context(), on, "tide-board")
	require.NoError(t, err)
	blocked := func(why string) {
		t.Helper()
		p, err := s.Plan(t.Context(), copied)
		require.NoError(t, err)
		assert.True(t, p.Blocked)
		check := p.Plan.Checks[1]
		assert.Equal(t, "in-use", check.Name)
		assert.Contains(t, check.Message, why)
	}
	blocked("the machine lighthouse:tide-board is running")
	redefine(t, there, "tide-board", there.Disk(t, "other.raw", daemon.Boot(false)))
	_, err = s.StartMachine(t.Context(), on, "tide-board") // it runs, and the host is asked anew
	require.NoError(t, err)
	blocked("the machine lighthouse:tide-board is running")
	_, err = s.Start(t.Context(), api.NewJob{Plan: early.Id})
	require.ErrorContains(t, err, "the machine lighthouse:tide-board is running")

	_, err = s.StopMachine(t.Context(), on, "tide-board", 0, true)
	require.NoError(t, err)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Release: true, Source: copied.Source, Destination: &plan.Place{Pool: "attic", Path: "tide-board.raw"},
		LeaveDefinitions: true,
	})
	testkit.Await(t, s.Service, moved.Id)
	assert.FileExists(t, filepath.Join(aside, "tide-board.raw"), "it got another name on its host")

	there.Kill()
	copied.Source.Pool, copied.Destination.Path = "attic", "again.qcow2"
	require.Eventually(t, func() bool {
		p, err := s.Plan(t.Context(), copied)
		return err == nil && p.Blocked
	}, 30*time.Second, 200*time.Millisecond)
	blocked("the machines of the host lighthouse cannot be asked for")
	_, err = s.ChangeHost(t.Context(), on, api.HostChange{Runs: &nothing})
	require.NoError(t, err)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, copied).Id)
}

// TestADiskByVolume of a storage pool of its host is known by its file: where it lies, that it is in use, and where it goes.
func TestADiskByVolume(t *testing.T) {
	t.Parallel()
	s, _, there := twoHosts(t)
	there.Guest(t, "tide-board", false)
	there.StoragePool(t, "deck")
	has, err := s.HostStorage(t.Context(), "lighthouse")
	require.NoError(t, err)
	lampRoom := "lamp-room"
	assert.Equal(t, []api.HostPool{{Name: "deck", Folder: there.Dir, Pool: &lampRoom}}, has.Pools)
	_, err = s.HostStorage(t.Context(), "no-such")
	require.ErrorContains(t, err, "not found")
	text := strings.Replace(daemon.Definition("tide-board", ""), "<disk type='file'", "<disk type='volume'", 1)
	text = strings.Replace(text, "<source file=''/>", "<source pool='deck' volume='tide-board.raw'/>", 1)
	m, err := s.Machine(t.Context(), "lighthouse", "tide-board")
	require.NoError(t, err)
	define(t, there, strings.Replace(text, "<memory", "<uuid>"+m.Uuid+"</uuid><memory", 1))
	m, err = s.StartMachine(t.Context(), "lighthouse", "tide-board")
	require.NoError(t, err)
	require.Nil(t, m.Disks[0].File)
	assert.Equal(t, "deck tide-board.raw", *m.Disks[0].HostPool+" "+*m.Disks[0].Volume)
	assert.Equal(t, "lamp-room:tide-board.raw", *m.Disks[0].Pool+":"+*m.Disks[0].Path)
	p, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "lamp-room", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lamp-room", Path: "t.qcow2"},
	})
	require.NoError(t, err)
	assert.Contains(t, check(t, p.Plan, "in-use").Message, "the machine lighthouse:tide-board is running")

	_, err = s.StopMachine(t.Context(), "lighthouse", "tide-board", 0, true)
	require.NoError(t, err)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.MoveMachine, Machine: "lighthouse:tide-board", To: "local", Destination: &plan.Place{Pool: "quay-store"},
	}).Id)
	now, err := s.Machine(t.Context(), "local", "tide-board")
	require.NoError(t, err)
	assert.Equal(t, "quay-store:tide-board/tide-board.raw", *now.Disks[0].Pool+":"+*now.Disks[0].Path)
	require.NotNil(t, now.Disks[0].File, "it is named by its file there")
}

// define makes a machine known to a daemon, or changes it.
func define(t *testing.T, d *daemon.Daemon, text string) {
	t.Helper()
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	defer h.Close()
	_, err = h.(host.Definer).Define(t.Context(), []byte(text))
	require.NoError(t, err)
}

// redefine gives the stored definition of a machine another disk. What runs keeps that which it has.
func redefine(t *testing.T, d *daemon.Daemon, name, disk string) {
	t.Helper()
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	defer h.Close()
	m, err := h.Machine(t.Context(), name)
	require.NoError(t, err)
	define(t, d, strings.Replace(daemon.Definition(name, disk), "<memory", "<uuid>"+m.UUID+"</uuid><memory", 1))
}
