package crash

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestARoutineIsBegunOnce: the service is killed at random moments while it begins a routine; after the restart each run that was kept has one group, and no
// group is of none.
func TestARoutineIsBegunOnce(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	dir := s.Pool("quay-store")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide-board.raw"), make([]byte, mib), 0o600))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{ // its copy has a tag
		Kind: plan.Copy, Source: place("quay-store", "tide-board.raw"), Destination: &plan.Place{Pool: "quay-store", Path: "board.raw"},
	}).Id)
	var r routine.Routine
	require.NoError(t, json.Unmarshal([]byte(`{"name": "proofs", "each": {"disks_of": "quay-store", "tagged": true},
		"requests": [{"kind": "prove", "source": {"pool": "quay-store", "path": "<path>"}, "tag": "beside"}]}`), &r))
	_, err := s.PutRoutine(t.Context(), r)
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	interrupted := 0
	for range 6 {
		var asked sync.WaitGroup
		asked.Go(func() { _, _ = s.RunRoutine(t.Context(), "proofs", api.NewRun{}) }) // it may be told what came of it, or not
		time.Sleep(time.Duration(random.IntN(25)) * time.Millisecond)                 // a random moment
		s.Kill()
		asked.Wait()
		s = testkit.Start(t, state)
		kept, err := s.Routine(t.Context(), "proofs")
		require.NoError(t, err)
		if len(kept.Runs) > 0 && !kept.Runs[0].Over {
			interrupted++
		}
		require.Eventually(t, func() bool {
			kept, err = s.Routine(t.Context(), "proofs")
			return assert.NoError(t, err) && (len(kept.Runs) == 0 || kept.Runs[0].Over)
		}, 30*time.Second, 10*time.Millisecond)
	}
	t.Logf("interrupted %d", interrupted)
	kept, err := s.Routine(t.Context(), "proofs")
	require.NoError(t, err)
	require.NotEmpty(t, kept.Runs)
	groups := map[string]bool{}
	for _, run := range kept.Runs {
		require.Nil(t, run.Problem, "%+v", run)
		require.NotNil(t, run.Group)
		assert.False(t, groups[*run.Group], "two runs have one group")
		groups[*run.Group] = true
	}
	all, err := s.Groups(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, len(groups), "a run was begun twice")
}
