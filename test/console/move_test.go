package console

import (
	"net/url"
	"testing"

	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
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
	address, err := url.Parse(testkit.Eval[string](p, `location.href`))
	require.NoError(t, err)
	assert.JSONEq(t, `{"kind":"move-machine","machine":"quay:ticketing","stop":true,"start":true,"to":"lighthouse","as":"qcow2",
		"destination":{"pool":"lamp-room","path":""},"networks":{"quay":"pier"}}`, address.Query().Get("request"))
	p.Open(address.String())
	p.AwaitText("lamp-room:ticketing/ticketing.qcow2")
	p.Click("Start")
	p.AwaitText("It was seen to come up")
	p.AwaitText("its guest agent answers")
	p.Await(`[...document.querySelectorAll("figure img")].some((i) => i.naturalWidth > 100)`)
	p.Click("Machines")
	p.AwaitText("lamp-room:ticketing/ticketing.qcow2")
}
