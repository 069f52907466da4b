package console

import (
	"slices"

	"bagaglio/api"
	"net/url"
	"testing"

	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMachineMoves by the console: its plan lives beside what is asked for, a remedy settles what stands in the way, the request is in the
// address, and the job shows what was seen of the machine in its new place.
func TestAMachineMoves(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{Networks: []string{"pier"}})
	quay.Ticketing(t, append(daemon.Boot(true), make([]byte, 1<<20)...))
	_, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Machines")
	p.AwaitText("harbour:ticketing.raw")
	p.Click("Move or copy")
	p.AwaitText("Choose a pool of a host")
	p.Fill("Pool of its disks", "lamp-room")
	p.AwaitText("lighthouse has no network quay")
	p.Click("Connect it to pier")
	p.AwaitText("What becomes different")
	p.Fill("Format of its disks", "qcow2")
	p.AwaitText("lamp-room:ticketing/ticketing.qcow2")
	p.Click("Change something on its way")
	p.Fill("Processors", "2")
	p.Fill("Bus of its disks", "sata")
	p.AwaitText("disk 1, slot")
	address, err := url.Parse(testkit.Eval[string](p, `location.href`))
	require.NoError(t, err)
	assert.JSONEq(t, `{"kind":"move-machine","machine":"quay:ticketing","stop":true,"start":true,"to":"lighthouse","as":"qcow2",
		"destination":{"pool":"lamp-room","path":""},"networks":{"quay":"pier"},"changes":{"processors":2,"buses":{"all":"sata"}}}`, address.Query().Get("request"))
	p.Open(address.String())
	p.AwaitText("lamp-room:ticketing/ticketing.qcow2")
	p.Click("Start")
	p.AwaitText("It was seen to come up")
	p.AwaitText("its guest agent answers")
	p.Await(`[...document.querySelectorAll("figure img")].some((i) => i.naturalWidth > 100)`)
	p.Click("Machines")
	p.AwaitText("lamp-room:ticketing/ticketing.qcow2")
	p.Fill("Search", "roster")
	p.AwaitText("0 of 1 machines")
	p.Fill("Search", "TICK")
	p.Fill("State", "running")
	p.AwaitText("1 of 1 machines")
	p.Click("ticketing")
	p.AwaitText("What it is")
	p.AwaitText("52:54:00:00:00:01")
	p.AwaitText("Job 1: move machine")
	p.Await(`[...document.querySelectorAll("section[aria-label=Screen] img")].some((i) => i.naturalWidth > 100)`)
	p.Click("Job 1: move machine")
	p.AwaitText("It was seen to come up")

	p.Open(s.Address + "/machines/move?request=" + url.QueryEscape(`{"kind":"copy-machine","machine":"lighthouse:ticketing","stop":true}`))
	p.AwaitText("Choose a pool of a host")
	p.Fill("Pool of its disks", "quay-store")
	p.AwaitText("quay-store:ticketing/ticketing.machine.yaml")
	p.Click("Start")
	p.AwaitText("was copied to quay-store:ticketing/ticketing.machine.yaml")
}

// TestWhatRunsMachines on a host is said in the console.
func TestWhatRunsMachines(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := standins.Start(t, t.TempDir(), standin.Traits{})
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/hosts")
	p.Click("Machines are run by nothing")
	p.Fill("What runs them", "standin")
	p.Fill("The address of its API", quay.URL)
	p.Click("Change what runs machines on local")
	p.AwaitText("Machines are run by a stand-in")
	h, err := s.Hosts(t.Context())
	require.NoError(t, err)
	require.Equal(t, quay.URL, *h[0].Machines)
	p.AwaitText("Its own storage pool disks in " + quay.Folder)
	p.Click("Make it a pool")
	p.AwaitText(": the pool disks")
	pools, err := s.Pools(t.Context())
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(pools, func(p api.Pool) bool { return p.Name == "disks" && p.Folder == quay.Folder }))
}

// TestAMachineTakesItsMemoryAlong where that is switched on.
func TestAMachineTakesItsMemoryAlong(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := world(t)
	traits := standin.Traits{Writes: true, Layers: true}
	quay := standins.Join(t, s.Service, "quay", "harbour", traits)
	standins.Join(t, s.Service, "lighthouse", "lamp-room", traits)
	quay.Ticketing(t, append(daemon.Boot(true), make([]byte, 1<<20)...))
	_, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Machines")
	p.AwaitText("harbour:ticketing.raw")
	p.Click("Move or copy")
	p.AwaitText("Choose a pool of a host")
	p.Fill("Pool of its disks", "lamp-room")
	p.Click("Move it while it runs: within its host it goes on, to another host it stops for a moment")
	p.Click("Take along what it has in memory: it is not shut down, and goes on there where it was")
	p.AwaitText("what it has in memory")
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	j, err := s.Job(t.Context(), "1")
	require.NoError(t, err)
	assert.True(t, j.Request.WithMemory)
	assert.EqualValues(t, "proven", *j.Outcome)
}
