package console

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatNeedsSomebody is the first page: a job that failed, one that somebody paused, what runs with its time left, and what has ended; on a phone its head is one line, and the rooms
// lie at the bottom.
func TestWhatNeedsSomebody(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := s.Pool("pier")
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo-ledger.raw"), make([]byte, 8<<20), 0o600))
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, As: "qcow2",
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.qcow2"},
	})
	testkit.Proven(t, s.Service, moved.Id)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 1 << 19})
	content := make([]byte, 8<<20)
	for i := range content {
		content[i] = byte(i * 7)
	}
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo-ledger.raw"), content, 0o600))
	slow := func(name string) api.Job {
		return testkit.Begin(t, s.Service, plan.Request{
			Kind: plan.Convert, Source: plan.Place{Pool: "pier", Path: "cargo-ledger.raw"}, As: "raw",
			Destination: &plan.Place{Pool: "lighthouse-store", Path: name},
		})
	}
	paused := slow("paused.raw")
	testkit.Await(t, s.Service, paused.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
	_, err := s.Pause(t.Context(), paused.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, paused.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	running := slow("running.raw")
	testkit.Await(t, s.Service, running.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.SecondsLeft != nil })

	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("Job " + paused.Id + ", convert pier:cargo-ledger.raw does not go on by itself")
	p.AwaitText(" left")
	p.AwaitText("Job " + moved.Id + ", convert quay-store:tide-board.raw")
	p.Click("Let it go on")
	p.Await(`!document.body.innerText.includes("does not go on by itself")`)
	phone := testkit.Browse(t, 390, 800)
	link, err := s.ConsoleLink(t.Context())
	require.NoError(t, err)
	phone.Open(link.Url)
	phone.AwaitText("What needs you")
	phone.Await(`document.querySelector("header > div").getBoundingClientRect().height < 60`)
	phone.Await(`window.innerHeight - document.querySelector("nav").getBoundingClientRect().bottom < 2`)
	phone.Await(`document.documentElement.scrollWidth <= window.innerWidth`)
	p.Click("Jobs")
	p.AwaitText("5 MiB")
	assert.NotContains(t, testkit.Eval[string](p, `document.body.innerText`), "undefined")
}

// TestTheBrowserTells that a job has ended while its page is not seen, where somebody wants that, and leads to the job.
func TestTheBrowserTells(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Settings")
	p.AwaitText("Tells when a job has ended")
	testkit.Eval[bool](p, `(() => {
		window.told = [];
		window.Notification = class {
			static permission = "granted";
			static requestPermission = async () => "granted";
			constructor(title, options) { this.text = title + ": " + options.body; window.told.push(this); }
			close() {}
		};
		const hide = (state) => {
			Object.defineProperty(document, "visibilityState", { value: state, configurable: true });
			document.dispatchEvent(new Event("visibilitychange"));
		};
		window.hide = () => hide("hidden");
		window.seen = () => hide("visible");
		return true;
	})()`)
	unheard := begin(t, s, "unheard.qcow2", 0, false)
	testkit.Proven(t, s.Service, unheard)
	p.Click("Tells when a job has ended or asks, while you look at something else. A page of the console has to stay open.")
	p.Await(`document.querySelector("section[aria-label='This browser'] input").checked`)
	p.Await(`navigator.locks.query().then((all) => (window.one = all.held.length === 1)) && window.one`)
	testkit.Eval[bool](p, `(window.hide(), true)`)
	heard := begin(t, s, "heard.qcow2", 0, false)
	p.Await(`window.told.length`)
	assert.Equal(
		t,
		[]string{"Job " + heard + " is proven: convert quay-store:tide-board.raw"},
		testkit.Eval[[]string](p, `window.told.map((n) => n.text)`),
	)
	testkit.Eval[bool](p, `(window.seen(), window.told[0].onclick(), true)`)
	p.Await(`location.pathname === "/jobs/` + heard + `"`)
}

// TestFinding: one key opens it from anywhere, and what was written leads by the arrows to disks and jobs.
func TestFinding(t *testing.T) {
	t.Parallel()
	s := world(t)
	testkit.Await(t, s.Service, begin(t, s, "b.qcow2", 0, false))
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("Nothing runs")
	p.Press("/")
	p.Await(`document.activeElement.getAttribute("role") === "combobox"`)
	p.Fill("Disk, machine, job, pool, host or routine", "TIDE")
	p.AwaitText("quay-store:tide-board.raw")
	p.AwaitText("convert quay-store:tide-board.raw, done")
	p.Press(kb.ArrowDown)
	p.Await(`document.querySelector("[aria-selected=true]").textContent.includes("convert")`)
	p.Press(kb.Enter)
	p.AwaitText("Proven: what arrived is what left")
	p.Press("/")
	p.Await(`document.querySelector("dialog").open`)
	p.Fill("Disk, machine, job, pool, host or routine", "no such thing")
	p.AwaitText("Nothing has that in its name.")
}
