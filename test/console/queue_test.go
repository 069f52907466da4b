package console

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// begin starts a conversion of the disk of tide-board with a limit on its speed, in bytes a second; 0 for none.
func begin(t *testing.T, s *testkit.Service, to string, speed int64, replace bool) string {
	t.Helper()
	kept, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: to},
		As:          "qcow2",
		Replace:     replace,
	})
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: &speed})
	require.NoError(t, err)
	return j.Id
}

// TestPauseAndGoOn: a job is paused, put to the front, let go at another speed, and shows the disk and its speed.
func TestPauseAndGoOn(t *testing.T) {
	t.Parallel()
	s := world(t)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	first := begin(t, s, "a.qcow2", 200<<10, false)
	begin(t, s, "b.qcow2", 0, false)
	third := begin(t, s, "c.qcow2", 0, false)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.Open(s.Address + "/jobs/" + first)
	p.AwaitText("running")
	p.AwaitText("Most of the time goes to a limit on the speed")
	p.Click("Pause")
	p.AwaitText("paused on request")
	p.AwaitText("What it has done stays")
	j, err := s.Job(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, api.JobStatePaused, j.State)

	// The other two go now; they are done before the page of the third is there, or it says what it waits for.
	for _, err := range s.Follow(t.Context(), third) {
		require.NoError(t, err)
	}
	p.Click("Go on")
	p.AwaitText("running")
	p.Fill("Speed limit in MiB/s", "100")
	p.Click("Set")
	p.AwaitText("Proven: what arrived is what left")
	p.AwaitText("copied, read back from storage")
	p.AwaitText("1 time(s) after it was interrupted")
	strip := testkit.Eval[string](p, `document.querySelector("figure svg").ariaLabel`)
	assert.Regexp(t, `^The disk from its first to its last byte: 20 % empty, 80 % copied, read back from storage$`, strip)
}

// TestEachDiskHasAStrip on the page of a job that carries several.
func TestEachDiskHasAStrip(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	first, second := filepath.Join(quay.Folder, "tickets.raw"), filepath.Join(quay.Folder, "prices.raw")
	testkit.Noise(t, first, 2<<20)
	testkit.Noise(t, second, 1<<20)
	one := standins.Definition("ticketing", standins.TicketingID, first, "raw")
	both := strings.Replace(one, "networks:", fmt.Sprintf("  - {file: %q, format: raw, bus: ide, slot: hdb}\nnetworks:", second), 1)
	_, err := quay.Define([]byte(both))
	require.NoError(t, err)
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &plan.Place{Pool: "lamp-room"},
	})
	testkit.Proven(t, s.Service, moved.Id)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("What needs you")
	p.Open(s.Address + "/jobs/" + moved.Id)
	for _, disk := range []string{"tickets.raw", "prices.raw"} {
		p.Await(`document.querySelector("figure svg[aria-label^='harbour:` + disk + ` from its first to its last byte']")`)
	}
}

// TestToTheFront: a job that waits says for what, and can be put before the others.
func TestToTheFront(t *testing.T) {
	t.Parallel()
	s := world(t)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	first := begin(t, s, "a.qcow2", 100<<10, false)
	second := begin(t, s, "b.qcow2", 0, false)
	third := begin(t, s, "c.qcow2", 0, false)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.Open(s.Address + "/jobs/" + third)
	p.Click("To the front")
	p.AwaitText("Waits for its turn")
	p.Await(`!document.querySelector("button[disabled]")`)
	_, err := s.Cancel(t.Context(), first)
	require.NoError(t, err)
	p.AwaitText("Proven: what arrived is what left")
	for _, err := range s.Follow(t.Context(), second) {
		require.NoError(t, err)
	}
	b, err := s.Job(t.Context(), second)
	require.NoError(t, err)
	c, err := s.Job(t.Context(), third)
	require.NoError(t, err)
	assert.True(t, c.Started.Before(*b.Started))
}

// TestRooms: receipts are checked in the browser and found, the log is searched, what was replaced is restored and removed, and limits are changed.
func TestRooms(t *testing.T) {
	t.Parallel()
	s := world(t)
	for i := range 2 {
		id := begin(t, s, "a.qcow2", 0, i > 0)
		for _, err := range s.Follow(t.Context(), id) {
			require.NoError(t, err)
		}
	}
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Receipts")
	p.AwaitText("2 receipts, each as it was signed, in an unbroken chain")
	p.Fill("Number of a job, or a name in what was asked for", "no such disk")
	p.AwaitText("No receipt has that in it")
	p.Fill("Number of a job, or a name in what was asked for", "tide-board")
	p.Await(`document.querySelectorAll("main li").length === 2 && document.querySelector("main li a").pathname === "/jobs/2"`)
	p.Click("Log")
	p.AwaitText("started a plan")
	p.Fill("Only lines with", "no such line")
	p.AwaitText("No line has that in it")
	p.Fill("Only lines with", "started a plan")
	p.Await(`document.querySelectorAll("main li").length === 2`)
	p.Click("Places")
	p.Click("Held files")
	p.AwaitText("lighthouse-store:a.qcow2")
	p.AwaitText("replaced by job 2")
	p.Click("Restore")
	p.AwaitText("swapped for what was held")
	p.Click("Remove")
	p.Click("Remove for good")
	p.AwaitText("Nothing was replaced of late")
	p.Click("Settings")
	p.Fill("All jobs together: jobs at once, 0 for no limit", "3")
	p.Fill("All jobs together: MiB a second", "50")
	p.Click("Set")
	p.Await(`document.querySelector("section[aria-label=Limits] span").title === "50 MiB/s"`)
	limits, err := s.Limits(t.Context())
	require.NoError(t, err)
	assert.Equal(t, api.Limit{Scope: "service", Jobs: 3, Speed: 50 << 20, Etag: limits[0].Etag}, limits[0])

	// Somebody changes a seal behind the service's back: the browser finds it.
	s.Stop()
	db, err := sqlx.Open("sqlite", filepath.Join(s.State, "records.sqlite"))
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), `UPDATE seals SET seal = replace(seal, substr(seal, 100, 3), 'AAA') WHERE number = 2`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s = testkit.Start(t, s.State)
	p.Open(s.Link)
	p.Click("Receipts")
	p.AwaitText("was changed since it was signed")
	_, err = os.Stat(filepath.Join(s.State, "receipts.jwk"))
	require.NoError(t, err)
}

// TestARoutineIsKept of what was composed, done with another disk, and forgotten; what it could not do needs somebody. What is composed can be copied as a command.
func TestARoutineIsKept(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/compose?request=" + composed)
	p.AwaitText("The same by the client")
	p.Await(`[...document.querySelectorAll("summary")].some((x) => { x.click(); return x.textContent.includes("The same") })`)
	p.AwaitText("| bagaglio do -")
	p.Click("Keep it as a routine")
	p.Await(`document.querySelector("textarea").value.includes("quay-store")`)
	p.Fill("Its name", "nightly")
	p.Fill("Minute, hour, day, month, day of the week", "61 2 * * *")
	p.Click("Keep it")
	p.AwaitText("no cron line")
	p.Fill("Minute, hour, day, month, day of the week", "30 2 * * *")
	p.Click("Keep it")
	p.AwaitText("next at")
	p.Click("Do it now: nightly")
	p.AwaitText("group 1")
	r, err := s.Routine(t.Context(), "nightly")
	require.NoError(t, err)
	require.Equal(t, "30 2 * * *", r.Work.Times.Cron)
	g, err := s.Group(t.Context(), *r.Runs[0].Group)
	require.NoError(t, err)
	testkit.Proven(t, s.Service, g.Jobs[0].Id)
	p.Click("Do it now: nightly")
	p.AwaitText("not begun")
	p.Click("Now")
	p.AwaitText("was not begun as it was to be")
	p.Click("nightly")
	p.Click("Forget it: nightly")
	p.AwaitText("Nothing is done again and again yet")
}

// TestTenThousandJobs are gone through page by page, and searched.
func TestTenThousandJobs(t *testing.T) {
	t.Parallel()
	s := world(t)
	testkit.Proven(t, s.Service, begin(t, s, "a.qcow2", 0, false))
	s.Stop()
	db, err := sqlx.Open("sqlite", filepath.Join(s.State, "records.sqlite"))
	require.NoError(t, err)
	var columns []string
	require.NoError(t, db.SelectContext(t.Context(), &columns, `SELECT name FROM pragma_table_info('jobs') WHERE name <> 'id'`))
	others := strings.Join(columns, ", ")
	_, err = db.ExecContext(t.Context(), `WITH RECURSIVE n(id) AS (SELECT 2 UNION ALL SELECT id + 1 FROM n WHERE id < 10000)
		INSERT INTO jobs (id, `+others+`) SELECT n.id, `+others+` FROM n, jobs WHERE jobs.id = 1`)
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), `UPDATE jobs SET plan = replace(plan, 'tide-board', 'crew-roster') WHERE id = 77`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s = testkit.Start(t, s.State)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Jobs")
	shows := func(first string) {
		t.Helper()
		p.Await(`document.querySelector("main ul a")?.pathname === "/jobs/` + first + `"`)
	}
	shows("10000")
	per := testkit.Eval[int](p, `document.querySelectorAll("main ul a").length`)
	p.Click("On")
	shows(strconv.Itoa(10000 - per))
	p.Click("Back")
	shows("10000")
	p.Fill("Number, or a name in what was asked for", "crew-roster")
	shows("77")
	p.Fill("Number, or a name in what was asked for", "4711")
	shows("4711")
}
