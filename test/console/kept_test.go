package console

import (
	"net/http"
	"net/http/httptest"
	"os"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestACopyThatIsKept: the page of its job says what moment the copy is of, how far it is behind, and has it brought up to date and go over.
func TestACopyThatIsKept(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := world(t)
	here := daemon.JoinHere(t, s.Service, "berth")
	daemon.JoinOver(t, s.Service, "lighthouse", "lantern")
	here.Guest(t, "ticketing", true)
	here.Disk(t, "ticketing.raw", daemon.Counts(8<<20))
	_, err := s.ChangePool(t.Context(), "berth", api.PoolChange{Rules: plan.Rules{Owner: here.Owner, Mode: "0660"}})
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Loaded(t, "ticketing")
	job := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "local:ticketing",
		To:          "lighthouse",
		Destination: &plan.Place{Pool: "lantern"},
		Live:        true,
		KeepEvery:   3600,
	})
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("Places")
	p.Open(s.Address + "/jobs/" + job.Id)
	p.AwaitText("kept up to date")
	p.AwaitText("The copy on lighthouse is of")
	p.AwaitText("Next copied")
	p.AwaitText("Left to copy")
	if at := os.Getenv("BAGAGLIO_SHOT"); at != "" {
		p.Picture(at)
	}
	first, err := s.Job(t.Context(), job.Id)
	require.NoError(t, err)
	p.Click("Copy now what was written since")
	next := testkit.Await(
		t,
		s.Service,
		job.Id,
		func(j api.Job) bool { return j.Question != nil && !j.Question.Until.Equal(first.Question.Until) },
	)
	require.NotNil(t, next.Question)
	p.AwaitText(next.Question.Text)
	over := "Go over now: shut it down, copy what was written last, and start it there"
	p.Click(over)
	p.Click("Yes. " + over)
	p.AwaitText("It was seen to come up")
	p.AwaitText("local:ticketing is now lighthouse:ticketing")
}

// TestWhoIsToldByTheConsole: a program is told, which is tried out; a wrong address is said to be that.
func TestWhoIsToldByTheConsole(t *testing.T) {
	t.Parallel()
	s := world(t)
	var heard atomic.Int32
	bell := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { heard.Add(1) }))
	t.Cleanup(bell.Close)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Settings")
	p.AwaitText("Nobody: whoever wants to know has to look.")
	p.Fill("Who is to be told", "night-watch")
	p.Fill("Address", "quay.example")
	p.Click("Tell them from now on")
	p.AwaitText("is no address of a web server")
	p.Fill("Address", bell.URL)
	p.Click("Tell them from now on")
	p.AwaitText("What messages to night-watch are signed with")
	p.Click("Try it out: night-watch")
	p.AwaitText("It was accepted.")
	assert.EqualValues(t, 1, heard.Load())
	p.Click("Remove: night-watch")
	p.AwaitText("Nobody: whoever wants to know has to look.")
}
