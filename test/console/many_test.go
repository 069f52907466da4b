package console

import (
	"testing"

	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestManyMachines: two are chosen, of which one cannot go; the survey says why, it is left out, and the other one moves.
func TestManyMachines(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	lamp := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, make([]byte, 1<<20))
	_, err := quay.Define([]byte(standins.Definition("tide-board", "1c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", quay.Folder+"/gone.raw", "raw")))
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Machines")
	p.AwaitText("tide-board")
	p.Click("Choose ticketing")
	p.Click("Choose tide-board")
	p.AwaitText("2 machines are chosen")
	p.Click("Move or copy all of them")
	p.AwaitText("Choose a pool: the survey appears here")
	p.Fill("Pool of their disks", "lamp-room")
	p.AwaitText("1 of 2 can go")
	p.AwaitText("The source cannot be used")
	p.Fill("Have the others wait after so many failed", "1")
	p.AwaitText("1 of 2 can go")
	p.Click("Leave out what is blocked")
	p.AwaitText("1 of 1 can go")
	p.AwaitText("It can go")
	p.Click("Start all")
	p.AwaitText("1 of 1 have ended")
	require.Len(t, lamp.List(), 1)
	assert.Equal(t, "ticketing", lamp.List()[0].Name)
}
