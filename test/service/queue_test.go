package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slowly starts a request with a limit on its speed, in bytes a second.
func slowly(t *testing.T, s *client.Service, r plan.Request, speed int64) api.Job {
	t.Helper()
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: &speed})
	require.NoError(t, err)
	return j
}

// awaitJob returns when a job is as wanted.
func awaitJob(t *testing.T, s *client.Service, id string, is func(api.Job) bool) api.Job {
	t.Helper()
	for j, err := range s.Follow(t.Context(), id) {
		require.NoError(t, err)
		if is(j) {
			return j
		}
	}
	t.Fatalf("job %s ended before it was as wanted", id)
	return api.Job{}
}

func inState(want api.JobState) func(api.Job) bool {
	return func(j api.Job) bool { return j.State == want }
}

// far tells whether a job has written some of the disk, which is then kept as done.
func far(bytes int64) func(api.Job) bool {
	return func(j api.Job) bool {
		return j.Progress != nil && j.Progress.Step == "fill" && j.Progress.Done > bytes
	}
}

const mib = 1 << 20

// TestPausedJobsGoOn where they were: after a pause, after the service was stopped, and after it was killed; and the limit of
// their speed can be lifted meanwhile.
func TestPausedJobsGoOn(t *testing.T) {
	t.Parallel()
	for name, between := range map[string]func(*testing.T, *testkit.Service, string) *testkit.Service{
		"paused": func(t *testing.T, s *testkit.Service, id string) *testkit.Service {
			_, err := s.Pause(t.Context(), id)
			require.NoError(t, err)
			j := awaitJob(t, s.Service, id, inState(api.JobStatePaused))
			assert.Equal(t, "paused on request", *j.Reason)
			assert.False(t, j.ByItself)
			_, err = s.Resume(t.Context(), id)
			require.NoError(t, err)
			return s
		},
		"stopped": func(t *testing.T, s *testkit.Service, _ string) *testkit.Service {
			s.Stop()
			return testkit.Start(t, s.State)
		},
		"killed": func(t *testing.T, s *testkit.Service, _ string) *testkit.Service {
			s.Kill()
			return testkit.Start(t, s.State)
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := start(t)
			quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
			noise(t, quay, "cargo-ledger.raw", 160*mib)
			id := slowly(t, s.Service, convert("cargo-ledger.raw", "a.qcow2", "qcow2"), 40*mib).Id
			awaitJob(t, s.Service, id, far(70*mib)) // more than a second's work
			s = between(t, s, id)
			none := int64(0)
			_, err := s.Change(t.Context(), id, api.JobChange{Speed: &none})
			require.NoError(t, err)
			j := testkit.Await(t, s.Service, id)
			require.Equal(t, api.JobStateDone, j.State)
			done, err := s.Receipt(t.Context(), id)
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, done.Outcome)
			assert.Equal(t, 1, done.Resumed)
			assert.Less(t, done.BytesRead, int64(2*160*mib+100*mib), "what was done is not done again")
			assert.NotEmpty(t, j.Progress.Strip)
			assert.Equal(t, strings.Repeat("p", len(j.Progress.Strip)), j.Progress.Strip)
			assert.FileExists(t, filepath.Join(lighthouse, "a.qcow2"))
			assert.NoDirExists(t, filepath.Join(lighthouse, ".bagaglio/staging"))
		})
	}
}

// TestLimitsAndOrder: what waits says for what, goes when there is a place, and in the order that somebody gave it.
func TestLimitsAndOrder(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	noise(t, quay, "tide-board.raw", 24*mib)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 8 * mib})
	var ids []string
	for _, name := range []string{"a.vhd", "b.vhd", "c.vhd"} {
		ids = append(ids, testkit.Begin(t, s.Service, convert("tide-board.raw", name, "vhd")).Id)
	}
	awaitJob(t, s.Service, ids[0], inState(api.JobStateRunning))
	_, err := s.Move(t.Context(), ids[2], "first")
	require.NoError(t, err)
	leases, err := s.Leases(t.Context())
	require.NoError(t, err)
	require.Len(t, leases, 2)
	assert.Equal(t, "local:"+filepath.Join(quay, "tide-board.raw"), leases[0].File)
	require.ErrorContains(t, s.FreeLeases(t.Context(), ids[0]), "cancel it")

	// The speed of all is lifted while the first one runs, then a second place is there.
	limited := awaitJob(t, s.Service, ids[0], func(j api.Job) bool { return j.Progress != nil && j.Progress.LimitedBy != "" })
	assert.Equal(t, "a limit on the speed", limited.Progress.LimitedBy)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	for _, id := range ids {
		require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, id).State)
	}
	var started []time.Time
	for _, id := range []string{ids[0], ids[2], ids[1]} {
		j, err := s.Job(t.Context(), id)
		require.NoError(t, err)
		started = append(started, *j.Started)
	}
	assert.IsIncreasing(t, []int64{started[0].UnixNano(), started[1].UnixNano(), started[2].UnixNano()})

	// A limit of one pool holds for the jobs in it only.
	s.Pool("seabag")
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 0})
	for _, scope := range []api.LimitScope{"host", "device"} {
		testkit.Limit(t, s.Service, api.Limit{Scope: scope, Jobs: 0})
	}
	testkit.Limit(t, s.Service, api.Limit{Scope: "pool", Jobs: 0})
	testkit.Limit(t, s.Service, api.Limit{Scope: "pool", Name: "seabag", Jobs: 1})
	to := func(pool, name string) string {
		r := convert("tide-board.raw", name, "vhd")
		r.Destination.Pool = pool
		return slowly(t, s.Service, r, 4*mib).Id
	}
	first, second, elsewhere := to("seabag", "d.vhd"), to("seabag", "e.vhd"), to("lighthouse-store", "f.vhd")
	awaitJob(t, s.Service, first, inState(api.JobStateRunning))
	awaitJob(t, s.Service, elsewhere, inState(api.JobStateRunning))
	waiting := awaitJob(t, s.Service, second, func(j api.Job) bool { return j.Reason != nil })
	assert.Equal(t, "waits for a job of the pool seabag to end", *waiting.Reason)
	for _, id := range []string{first, second, elsewhere} {
		_, err := s.Cancel(t.Context(), id)
		require.NoError(t, err)
		testkit.Await(t, s.Service, id)
	}
}

// TestCancelledWhileItIsPaused, or while that is going on: in any case it ends as cancelled, and leaves nothing.
func TestCancelledWhileItIsPaused(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "tide-board.raw", 24*mib)
	for i := range 8 {
		id := slowly(t, s.Service, convert("tide-board.raw", "a.vhd", "vhd"), 4*mib).Id
		awaitJob(t, s.Service, id, inState(api.JobStateRunning))
		_, err := s.Pause(t.Context(), id)
		require.NoError(t, err)
		if i%4 == 0 {
			awaitJob(t, s.Service, id, inState(api.JobStatePaused))
		}
		_, err = s.Cancel(t.Context(), id)
		require.NoError(t, err)
		require.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, id).State)
	}
	require.Eventually(t, func() bool {
		entries, err := os.ReadDir(lighthouse)
		return err == nil && len(entries) == 0
	}, 5*time.Second, 10*time.Millisecond)
}

// TestOneWriterOrManyReaders: two jobs never use one disk in conflicting ways.
func TestOneWriterOrManyReaders(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	noise(t, quay, "crew-roster.raw", 16*mib)
	for _, scope := range []api.LimitScope{"service", "host", "pool", "device"} {
		testkit.Limit(t, s.Service, api.Limit{Scope: scope, Jobs: 0})
	}
	first := slowly(t, s.Service, convert("crew-roster.raw", "crew-roster.vhd", "vhd"), 4*mib).Id
	reader := testkit.Begin(t, s.Service, convert("crew-roster.raw", "other.vhd", "vhd")).Id
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, reader).State, "two may read")
	replace := convert("other.raw", "crew-roster.raw", "raw")
	noise(t, quay, "other.raw", mib)
	replace.Destination.Pool, replace.Replace = "quay-store", true
	writer := testkit.Begin(t, s.Service, replace).Id
	waiting := awaitJob(t, s.Service, writer, func(j api.Job) bool { return j.Reason != nil })
	assert.Contains(t, *waiting.Reason, "job "+first+" reads local:")
	_, err := s.Pause(t.Context(), first)
	require.NoError(t, err)
	awaitJob(t, s.Service, first, inState(api.JobStatePaused))
	j, err := s.Job(t.Context(), writer)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateWaiting, j.State, "a paused job keeps its disks")
	_, err = s.Cancel(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, writer).State)
}

// TestHours: a job waits for its hours, and is set aside when they are over.
func TestHours(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	noise(t, quay, "ticketing.raw", 24*mib)
	now := time.Now()
	around := func(from, to time.Duration) string {
		return now.Add(from).Format("15:04") + "-" + now.Add(to).Format("15:04")
	}
	later, present := around(2*time.Hour, 3*time.Hour), around(-time.Hour, time.Hour)
	kept, err := s.Plan(t.Context(), convert("ticketing.raw", "ticketing.vhd", "vhd"))
	require.NoError(t, err)
	wrong := "night"
	_, err = s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: &wrong})
	require.ErrorContains(t, err, "write them as 22:00-06:00")
	speed := int64(2 * mib)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: &later, Speed: &speed})
	require.NoError(t, err)
	waiting := awaitJob(t, s.Service, j.Id, func(j api.Job) bool { return j.Reason != nil })
	assert.Equal(t, "waits for its hours, "+later, *waiting.Reason)
	_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: &present})
	require.NoError(t, err)
	awaitJob(t, s.Service, j.Id, far(2*mib))
	_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: &later})
	require.NoError(t, err)
	awaitJob(t, s.Service, j.Id, inState(api.JobStateWaiting))
	all, none := "", int64(0)
	_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: &all, Speed: &none})
	require.NoError(t, err)
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, j.Id).State)
}

// TestWhatIsReplacedIsHeld, listed, restored with one call, and removed for good with another. All of it is in the log.
func TestWhatIsReplacedIsHeld(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "ticketing.raw", 3*mib)
	require.NoError(t, os.MkdirAll(filepath.Join(lighthouse, "deck"), 0o700))
	old := filepath.Join(lighthouse, "deck", "ticketing.qcow2")
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, convert("ticketing.raw", "deck/ticketing.qcow2", "qcow2")).Id)
	before, err := os.ReadFile(old)
	require.NoError(t, err)
	noise(t, quay, "ticketing.raw", 4*mib)
	request := convert("ticketing.raw", "deck/ticketing.qcow2", "qcow2")
	request.Replace = true
	require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request).Id).State)
	now, err := os.ReadFile(old)
	require.NoError(t, err)
	require.NotEqual(t, before, now)

	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.Equal(t, "deck/ticketing.qcow2", held[0].Path)
	assert.Equal(t, "replaced by job 2", held[0].Why)
	assert.InDelta(t, (7 * 24 * time.Hour).Hours(), held[0].Until.Sub(held[0].Since).Hours(), 0.1)
	assert.GreaterOrEqual(t, held[0].Size, int64(len(before)))
	_, err = s.Restore(t.Context(), "lighthouse-store", held[0].Id, false)
	require.ErrorContains(t, err, "move it away first")
	_, err = s.Restore(t.Context(), "lighthouse-store", held[0].Id, true)
	require.NoError(t, err)
	back, err := os.ReadFile(old)
	require.NoError(t, err)
	assert.Equal(t, before, back)
	prove := plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "lighthouse-store", Path: "deck/ticketing.qcow2"}, Tag: plan.TagBeside}
	assert.Equal(
		t,
		api.JobOutcomeProven,
		*testkit.Await(t, s.Service, testkit.Begin(t, s.Service, prove).Id).Outcome,
		"its tag came back with it",
	)

	held, err = s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1, "the one that it was swapped for")
	held0 := held[0].Id
	require.NoError(t, s.DropHeld(t.Context(), "lighthouse-store", held0))
	held, err = s.Held(t.Context())
	require.NoError(t, err)
	assert.Empty(t, held)
	assert.NoDirExists(t, filepath.Join(lighthouse, ".bagaglio/staging"))

	events, err := s.Events(t.Context(), 0, "", 100)
	require.NoError(t, err)
	found := map[string]api.Event{}
	for _, e := range events {
		result, _, _ := strings.Cut(e.Result, ";") // behind which stands the head of the receipts
		found[e.What+" "+e.Subject+" "+result] = e
	}
	dropped := found["removed what was held pool lighthouse-store, held "+held0+" done"]
	assert.Contains(t, dropped.Who, "token, ")
	assert.Equal(t, "127.0.0.1", dropped.Origin)
	assert.WithinDuration(t, time.Now(), dropped.At, time.Minute)
	assert.Equal(t, "service", found["ended job 2 proven"].Who)
	assert.Contains(t, found, "started a plan job 2 done")
	refused := false
	for what := range found {
		refused = refused || strings.Contains(what, "Conflict: ") && strings.Contains(what, "move it away first")
	}
	assert.True(t, refused, "what was refused is in the log, with why")
}
