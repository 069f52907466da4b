package console

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// composed is a request as the address of the composing page has it.
var composed = url.QueryEscape(`{"kind":"convert","as":"qcow2","source":{"pool":"quay-store","path":"tide-board.raw"},` +
	`"destination":{"pool":"lighthouse-store","path":"b.qcow2"}}`)

// violations runs rules on what is shown, and lists what breaks them, with where. wcag are those of WCAG 2.2, A and AA; of these contrast are the ones that
// the colours of a theme can break.
const (
	wcag       = `["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]`
	contrast   = `{type: "rule", values: ["color-contrast", "link-in-text-block"]}` //nolint:misspell // as the rule is called
	violations = `window.broken = undefined, axe.run({runOnly: %s}).then(r => {
	window.broken = r.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.target.join(" ") + ": " + n.failureSummary));
}), true`
)

// TestEverybodyCanUseIt: no page breaks a rule of WCAG 2.2 AA, by day and by night.
func TestEverybodyCanUseIt(t *testing.T) {
	t.Parallel()
	root, err := testkit.Root()
	require.NoError(t, err)
	axe, err := os.ReadFile(filepath.Join(root, "web/node_modules/axe-core/axe.min.js"))
	require.NoError(t, err)
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	quay.Ticketing(t, make([]byte, 1<<20))
	done := begin(t, s, "a.qcow2", 0, false)
	testkit.Await(t, s.Service, done)
	failed := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Against: "bf1-" + strings.Repeat("0", 64),
	})
	testkit.Await(t, s.Service, failed.Id)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 64 << 10})
	running := begin(t, s, "slow.qcow2", 0, false)
	testkit.Await(t, s.Service, running, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })

	proofs := routine.Routine{Name: "proofs", Blanks: map[string]string{"file": "wreck.vhd"}, LeaveOut: true}
	proofs.Requests = []json.RawMessage{[]byte(`{"kind": "prove", "source": {"pool": "quay-store", "path": "<file>"}, "tag": "beside"}`)}
	_, err = s.PutRoutine(t.Context(), proofs)
	require.NoError(t, err)
	_, err = s.RunRoutine(t.Context(), "proofs", api.NewRun{})
	require.NoError(t, err)
	_, err = s.AddPerson(t.Context(), api.NewPerson{Name: "harbour-master", Role: api.Operator, Password: "nine gulls on a mast"})
	require.NoError(t, err)
	url := "http://127.0.0.1:9/bell"
	_, err = s.AddChannel(t.Context(), api.NewChannel{Name: "bell", Kind: "web", Target: api.ChannelTarget{Url: &url}})
	require.NoError(t, err)

	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("What needs you")
	testkit.Eval[bool](p, `(localStorage.setItem("theme", "harbour"), true)`)
	look := func(path, shows string) {
		p.Open(s.Address + path)
		p.Await(`document.querySelector("h1") && document.fonts.status === "loaded"`)
		p.AwaitText(shows)
		testkit.Eval[bool](p, string(axe)+"\n;true")
		for theme, rules := range map[string]string{"harbour": wcag, "night-watch": contrast} {
			testkit.Eval[bool](p, fmt.Sprintf(`(document.documentElement.dataset.theme = %q, true)`, theme))
			p.Await(`!document.getAnimations().some((a) => a instanceof CSSTransition)`)
			testkit.Eval[bool](p, fmt.Sprintf(violations, rules))
			p.Await("window.broken")
			assert.Empty(t, testkit.Eval[[]string](p, "window.broken"), "%s, %s", path, theme)
		}
	}
	look("/jobs/"+running, "Time left") // before it ends
	pages := map[string]string{
		"/":                                     "Since you last looked",
		"/places":                               "wreck.vhd",
		"/machines":                             "ticketing",
		"/machines/move?machine=quay:ticketing": "What to do",
		"/machines/many":                        "",
		"/machines/quay/ticketing":              "Disks",
		"/pool?name=quay-store":                 "tide-board.raw",
		"/hosts":                                "trusted by its key",
		"/disk?pool=quay-store&path=tide-board.raw": "virtual",
		"/devices": "",
		"/remove?pool=quay-store&path=tide-board.raw": "",
		"/compose?request=" + composed:                "",
		"/balance?drain=quay-store":                   "tide-board.raw",
		"/jobs":                                       "tide-board.raw",
		"/jobs/" + done:                               "proven",
		"/jobs/" + failed.Id:                          "",
		"/receipts":                                   "unbroken chain",
		"/log":                                        "started a plan",
		"/held":                                       "In use",
		"/settings":                                   "Who is told what happens",
		"/calls":                                      "/v1/health",
		"/routines":                                   "left out",
		"/report":                                     "receipts stand behind it",
	}
	for _, path := range fewer.Of(t, 6, slices.Sorted(maps.Keys(pages))) {
		look(path, pages[path])
	}
}

// TestWhoIsLetIn: an admin makes a token for a viewer, who sees who they are, is refused what they may not, and is let in no more once it is revoked.
func TestWhoIsLetIn(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Settings")
	p.AwaitText("None but the one of the service itself.")
	p.Fill("Name of a new token", "night-watch")
	p.Click("Make it")
	p.AwaitText("The secret of night-watch")
	p.AwaitText("never used")
	watch, err := client.Dial(s.Address, testkit.Eval[string](p, `document.querySelector("output").textContent`))
	require.NoError(t, err)
	link, err := watch.ConsoleLink(t.Context())
	require.NoError(t, err)
	other := testkit.Browse(t, 1280, 800)
	other.Open(link.Url)
	other.AwaitText("night-watch, viewer")
	other.Open(s.Address + "/compose?request=" + composed)
	other.Await(`[...document.querySelectorAll("button")].some(b => b.textContent.trim() === "Start" && !b.disabled)`)
	other.Click("Start")
	other.AwaitText("this takes the role operator, and you are viewer")
	other.Click("Settings")
	other.AwaitText("All jobs together")
	assert.NotContains(t, testkit.Eval[string](other, `document.body.innerText`), "Name of a new token")
	other.Click("Jobs")
	p.Click("Revoke night-watch")
	p.AwaitText("None but the one of the service itself.")
	other.AwaitText("The console is locked")
}

// TestSomebodySignsIn to the console by name and password, changes that, and ends sessions; who may administer gives another role.
func TestSomebodySignsIn(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Settings")
	p.AwaitText("Nobody signs in by name and password yet")
	p.Fill("Name of somebody new", "harbour-master")
	p.Fill("What they may", "operator")
	p.Fill("Their password", "nine gulls on a mast")
	p.Click("Let them sign in")
	p.AwaitText("never signed in")
	other := testkit.Browse(t, 1280, 800)
	other.Open(s.Address + "/settings")
	other.AwaitText("The console is locked")
	other.Fill("Name", "harbour-master")
	testkit.Eval[bool](other, `window.dispatchEvent(new Event("visibilitychange"))`) // somebody looks elsewhere, and comes back
	other.Fill("Password", "nine gulls on a must")
	other.Click("Sign in")
	other.AwaitText("the password is wrong")
	other.Fill("Password", "nine gulls on a mast")
	other.Click("Sign in")
	other.AwaitText("harbour-master, operator (this one)")
	other.Fill("Old password of harbour-master", "nine gulls on a mast")
	other.Fill("New password", "ten gulls on a mast")
	other.Click("Change it")
	other.AwaitText("Your other sessions are ended")
	p.Open(s.Address + "/settings")
	p.AwaitText("harbour-master, operator")
	p.Fill("What harbour-master may", "viewer")
	other.AwaitText("The console is locked")
	other.Fill("Name", "harbour-master")
	other.Fill("Password", "ten gulls on a mast")
	other.Click("Sign in")
	other.AwaitText("harbour-master, viewer (this one)")
}
