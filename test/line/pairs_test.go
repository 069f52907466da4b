package line

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pair is a porter behind a line of its own, and another one at its near end, with a pool each.
type pair struct {
	*link
	from, to string // their pools
	here     string // folder of the pool that is written to
}

func (l *link) pair(t *testing.T, s *testkit.Service, size int64) pair {
	t.Helper()
	there, here := inMemory(t), inMemory(t)
	p := pair{l, fmt.Sprintf("far-%d-store", l.number), fmt.Sprintf("near-%d-store", l.number), here}
	l.join(t, s, fmt.Sprint("far-", l.number))
	testkit.JoinIn(t, s, fmt.Sprint("near-", l.number), nil)
	for pool, folder := range map[string]string{p.from: there, p.to: here} {
		host := pool[:len(pool)-len("-store")]
		_, err := s.AddPool(t.Context(), api.NewPool{Name: pool, Host: &host, Folder: folder})
		require.NoError(t, err)
	}
	testkit.Noise(t, filepath.Join(there, "cargo-ledger.raw"), size)
	return p
}

// join has a porter join behind the line, from which others may read.
func (l *link) join(t *testing.T, s *testkit.Service, name string) {
	t.Helper()
	if l.number > 0 { // the service listens at the first line, and this computer takes that for itself at all of them
		run(t, "ip netns exec "+l.island()+" ip route add "+(&link{}).nearAddress()+" via "+l.nearAddress())
	}
	testkit.JoinIn(t, s, name, l.inside(), "--peers", l.farAddress()+":2249")
}

func (p pair) copy(name string) plan.Request {
	return plan.Request{
		Kind:        plan.Copy,
		NoProof:     true,
		Source:      plan.Place{Pool: p.from, Path: "cargo-ledger.raw"},
		Destination: &plan.Place{Pool: p.to, Path: name},
	}
}

// TestAThirdPorterCarries between two that do not reach each other: what they say stays between them, and goes over each line once.
func TestAThirdPorterCarries(t *testing.T) {
	const size = 32 * mib
	first, second := &link{rate: 1e9, mtu: 60_000}, &link{rate: 1e9, mtu: 60_000, number: 1}
	first.lay(t)
	second.lay(t)
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", first.nearAddress()+":0")
	first.join(t, s, "annex")
	second.join(t, s, "beacon")
	there, here := inMemory(t), inMemory(t)
	for host, folder := range map[string]string{"annex": there, "beacon": here} {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: host + "-store", Host: &host, Folder: folder})
		require.NoError(t, err)
	}
	testkit.Noise(t, filepath.Join(there, "cargo-ledger.raw"), size)
	said := func(p plan.Plan) string {
		for _, c := range p.Checks {
			if c.Name == "porter" {
				return c.Message
			}
		}
		return ""
	}
	r := fromAnnex
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.Contains(t, said(kept.Plan), "The service does it: ", "they do not reach each other")

	// One in the middle that lets others read from it is reached by both.
	testkit.JoinIn(t, s, "crane", nil, "--peers", second.nearAddress()+":2249")
	require.Eventually(t, func() bool { // that there is no way is known for a moment
		kept, err = s.Plan(t.Context(), r)
		require.NoError(t, err)
		return kept.Plan.Porter == "beacon"
	}, 30*time.Second, 500*time.Millisecond, "%+v", kept.Plan.Checks)
	assert.Contains(
		t,
		said(kept.Plan),
		"reads from the porter annex: what is copied goes through the porter crane, since they do not reach each other",
	)
	before := []int64{first.carried.Load(), second.carried.Load()}
	job, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(t, err)
	assert.Equal(t, "beacon", testkit.Proven(t, s.Service, job.Id).Porter)
	for i, l := range []*link{first, second} {
		moved := l.carried.Load() - before[i]
		assert.Greater(t, moved, int64(size))
		assert.Less(t, moved, int64(size+16*mib+size/4), "once, and a sample of it")
	}
	lines, err := s.Lines(t.Context())
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Equal(t, "crane", *lines[0].Via)
	want, err := os.ReadFile(filepath.Join(there, "cargo-ledger.raw"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(here, "cargo-ledger.raw"))
	require.NoError(t, err)
	assert.Equal(t, want, got)
}

// TestEightPairs measures, and is part of make bench: eight pairs of porters at once, against one, each over a line of its own.
func TestEightPairs(t *testing.T) {
	if os.Getenv("BAGAGLIO_BENCH") == "" {
		t.Skip("measured on request: make bench")
	}
	const size, rate, count = 64 * mib, 64e6 / 8, 8 // so that this computer, which is both ends of all lines, is not what is measured
	var pairs []pair
	var s *testkit.Service
	for i := range count {
		l := &link{rate: rate, delay: 10 * time.Millisecond, mtu: 60_000, number: i}
		l.lay(t)
		if s == nil {
			s = testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", l.nearAddress()+":0")
		}
		pairs = append(pairs, l.pair(t, s, size))
	}
	together := func(some []pair, name string) (whole, slowest float64) { // bytes a second: with all that is around it, and of the pair that copied slowest
		for _, p := range some { // planned before, since that measures the lines
			_, err := s.Plan(t.Context(), p.copy(name))
			require.NoError(t, err)
		}
		begun := time.Now()
		jobs := make([]string, len(some))
		var wait sync.WaitGroup
		for i, p := range some { // each by somebody else
			wait.Go(func() { jobs[i] = testkit.Begin(t, s.Service, p.copy(name)).Id })
		}
		wait.Wait()
		for _, id := range jobs {
			require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, id).State)
		}
		whole, slowest = float64(len(some))*size/time.Since(begun).Seconds(), rate
		for _, id := range jobs {
			done, err := s.Receipt(t.Context(), id)
			require.NoError(t, err)
			for _, step := range done.Steps {
				if step.Name == plan.StepFill {
					slowest = min(slowest, size/step.Seconds)
				}
			}
		}
		for _, p := range some { // what lies there already is not sent
			require.NoError(t, os.Remove(filepath.Join(p.here, name)))
		}
		return whole, slowest
	}
	one, oneCopies := together(pairs[:1], "one.raw")
	all, allCopy := together(pairs, "all.raw")
	t.Logf(
		"a disk of 64 MiB over 64 Mbit/s: %.1f MiB/s, %.2f of the line while it is copied; eight pairs at once: %.1f MiB/s, %.2f times as much; the slowest copied with %.2f of its line",
		one/mib,
		oneCopies/rate,
		all/mib,
		all/one,
		allCopy/rate,
	)
}
