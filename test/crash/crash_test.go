// Package crash kills the service at random moments, and looks at what is left with its own eyes.
package crash

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const kills = 20

// TestKilledAtAnyMoment: under its final name an image is whole or absent, the source is what it was, the job is found, and
// when it is started again it ends as proven.
func TestKilledAtAnyMoment(t *testing.T) {
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	source := make([]byte, 200<<20)
	r := rand.NewChaCha8([32]byte{9})
	_, _ = r.Read(source[10<<20:]) // never fails
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo-ledger.raw"), source, 0o400))
	targets := []struct{ as, layout string }{{"qcow2", "thin"}, {"qcow2", "thick"}, {"vhd", "dynamic"}, {"vhd", "fixed"}, {"raw", "thin"}, {"raw", "thick"}}
	whole := measure(t, s, targets[0].as)
	interrupted := 0
	for i := range kills {
		to := targets[i%len(targets)]
		name := fmt.Sprintf("ledger-%d.%s", i, to.as)
		id := start(t, s, name, to.as, to.layout)
		// Over the whole length of the job.
		after := time.Duration(rand.Int64N(int64(whole)))
		timer := time.NewTimer(after)
		<-timer.C
		s.Kill()
		checkPromises(t, quay, lighthouse, name, source)

		s = testkit.Start(t, s.State)
		j, err := s.Job(t.Context(), id)
		require.NoError(t, err)
		require.True(t, client.HasEnded(j), "an interrupted job is found at the start")
		entries, err := os.ReadDir(lighthouse)
		require.NoError(t, err)
		for _, e := range entries {
			assert.NotEqual(t, ".bagaglio", e.Name(), "its staging folder is cleared up")
		}
		if j.State == api.JobStateInterrupted {
			interrupted++
			again(t, s, id, lighthouse, name)
		}
		require.NoError(t, os.Remove(filepath.Join(lighthouse, name)))
	}
	t.Logf("%d kills after up to %v, %d jobs interrupted", kills, whole, interrupted)
	assert.Positive(t, interrupted, "no kill came in time: the test tested nothing")
}

// measure tells how long a job takes here.
func measure(t *testing.T, s *testkit.Service, as string) time.Duration {
	began := time.Now()
	await(t, s, start(t, s, "measure."+as, as, ""))
	return time.Since(began)
}

func start(t *testing.T, s *testkit.Service, name, as, layout string) string {
	t.Helper()
	kept, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.Convert, Source: plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: name}, As: as, Layout: layout,
	})
	require.NoError(t, err)
	j, err := s.Start(t.Context(), kept.Id)
	require.NoError(t, err)
	return j.Id
}

func await(t *testing.T, s *testkit.Service, id string) api.Job {
	t.Helper()
	var last api.Job
	for j, err := range s.Follow(t.Context(), id) {
		require.NoError(t, err)
		last = j
	}
	return last
}

// again starts a job again. If the image had got its name just before the kill, it is in the way, and it is whole.
func again(t *testing.T, s *testkit.Service, id, lighthouse, name string) {
	t.Helper()
	if _, err := os.Stat(filepath.Join(lighthouse, name)); err == nil {
		return
	}
	j, err := s.Again(t.Context(), id)
	require.NoError(t, err)
	j = await(t, s, j.Id)
	require.Equal(t, api.JobStateDone, j.State)
	require.Equal(t, api.JobOutcomeProven, *j.Outcome)
}

// checkPromises looks at the files while no service runs.
func checkPromises(t *testing.T, quay, lighthouse, name string, source []byte) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(quay, "cargo-ledger.raw"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(source, b), "the source was written to")
	final := filepath.Join(lighthouse, name)
	if _, err := os.Stat(final); os.IsNotExist(err) {
		return
	}
	back := filepath.Join(t.TempDir(), "back.raw")
	out, err := exec.Command(testkit.Binary(t), "convert", final, back, "--no-proof").CombinedOutput()
	require.NoError(t, err, "%s", out)
	b, err = os.ReadFile(back)
	require.NoError(t, err)
	require.True(t, bytes.Equal(source, b), "%s is there and not whole", name)
	require.NoError(t, os.Remove(back))
}
