package crash

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// TestALongQueue: hundreds of jobs are worked off by a service that is stopped or killed every few seconds: nothing is lost, nothing
// is done twice, and the records are whole.
func TestALongQueue(t *testing.T) {
	fewer.Sometimes(t)
	const sources = 20
	jobs := 300
	if os.Getenv("BAGAGLIO_KILLS") != "" { // make torture
		jobs = 1000
	}
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	for _, scope := range []api.LimitScope{"host", "pool", "device"} {
		testkit.Limit(t, s.Service, api.Limit{Scope: scope, Jobs: 4})
	}
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 4, Speed: 1}) // until all are there
	for i := range sources {
		require.NoError(
			t,
			os.WriteFile(filepath.Join(quay, fmt.Sprintf("cabin-%d.raw", i)), fmt.Appendf(make([]byte, 300_000), "cabin %d", i)[:300_000], 0o600),
		)
	}
	formats := []struct{ as, extension string }{{"qcow2", ".qcow2"}, {"vhd", ".vhd"}, {"vmdk", ".vmdk"}, {"raw", ".raw"}}
	name := func(i int) string {
		return fmt.Sprintf("cabin-%d%s", i, formats[i%len(formats)].extension)
	}
	for i := range jobs {
		kept, err := s.Plan(t.Context(), plan.Request{
			Kind: plan.Convert, Source: plan.Place{Pool: "quay-store", Path: fmt.Sprintf("cabin-%d.raw", i%sources)},
			Destination: &plan.Place{Pool: "lighthouse-store", Path: name(i)}, As: formats[i%len(formats)].as, RoundTo: 4096,
		})
		require.NoError(t, err)
		_, err = s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
	}
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 4})
	restarts := 0
	var counts map[api.JobState]int
	for counts[api.JobStateDone] < jobs {
		timer := time.NewTimer(2 * time.Second)
		<-timer.C
		if restarts%2 == 0 {
			s.Kill()
		} else {
			s.Stop()
		}
		restarts++
		require.Less(t, restarts, 100, "the queue does not come to its end: %v", counts)
		s = testkit.Start(t, state)
		all, err := s.Jobs(t.Context(), jobs)
		require.NoError(t, err)
		require.Len(t, all, jobs)
		counts = map[api.JobState]int{}
		for _, j := range all {
			counts[j.State]++
			if j.State == api.JobStateFailed {
				t.Fatalf("job %s failed: %s", j.Id, *j.Reason)
			}
		}
	}
	t.Logf("%d restarts", restarts)
	for i := range jobs {
		require.FileExists(t, filepath.Join(lighthouse, name(i)))
	}
	entries, err := os.ReadDir(lighthouse)
	require.NoError(t, err)
	assert.Len(t, entries, 2*jobs+1, "the images, their tags, our folder with their receipts, and nothing else")
	check := testkit.Run(t, quay, state, "receipt", "check")
	assert.Contains(t, check.Out, fmt.Sprintf("%d receipts, each as it was signed", jobs), check.Notes)
	s.Stop()

	db, err := sqlx.Open("sqlite", filepath.Join(state, "records.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	var whole, mode string
	require.NoError(t, db.Get(&whole, `PRAGMA integrity_check`))
	assert.Equal(t, "ok", whole)
	require.NoError(t, db.Get(&mode, `PRAGMA journal_mode`))
	assert.Equal(t, "wal", mode)
	for query, want := range map[string]int{
		`SELECT count(DISTINCT job) FROM seals`: jobs, `SELECT count(*) FROM seals`: jobs, `SELECT count(*) FROM leases`: 0, `SELECT count(*) FROM checkpoints`: 0,
		`SELECT count(*) FROM marks`: 0, `SELECT count(*) FROM jobs WHERE outcome = 'proven' AND uncleared = 0`: jobs,
	} {
		var got int
		require.NoError(t, db.Get(&got, query))
		assert.Equal(t, want, got, query)
	}
}
