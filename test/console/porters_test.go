package console

import (
	"testing"

	"bagaglio/api"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPorters: one is invited on the page of hosts, joins, is seen there, gets no more work, and is let in no more.
func TestPorters(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("What needs you")
	p.Open(s.Address + "/hosts")
	p.AwaitText("the service does all work itself")
	p.Fill("Name of a new porter", "annex")
	p.Click("Invite it")
	p.AwaitText("is good once")
	p.AwaitText("invited, and has not joined yet")
	assert.Contains(t, testkit.Eval[string](p, `document.querySelector("output").textContent`), "bagaglio porter --join 127.0.0.1:")

	testkit.Join(t, s, "annex")
	p.AwaitText("connected; heard")
	p.AwaitText("reached through its porter")
	p.Open(s.Address + "/compose")
	p.Fill("Done by", "annex")
	p.Await(`location.search.includes("annex")`)
	p.Open(s.Address + "/hosts")
	p.AwaitText("connected; heard")
	p.Click("Pause annex")
	p.AwaitText("it is given no more work")
	now, err := s.Porter(t.Context(), "annex")
	require.NoError(t, err)
	assert.Equal(t, api.PorterStatePaused, now.State)
	testkit.Eval[bool](p, `(window.confirm = () => true)()`)
	p.Click("Revoke annex")
	p.AwaitText("the service does all work itself")
}
