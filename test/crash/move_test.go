package crash

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestMovesKilledAtAnyMoment: a disk that moves is whole in one of its two places at every moment, and after the restart the move ends as
// proven, with the source out of the way.
func TestMovesKilledAtAnyMoment(t *testing.T) {
	kills := 4
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_KILLS")); err == nil {
		kills = n / 5
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	y := &yard{t: t}
	content := y.content(3, 24*mib)
	for _, same := range []bool{true, false} {
		t.Run(map[bool]string{true: "on the same storage", false: "to another"}[same], func(t *testing.T) {
			points := filepath.Join(t.TempDir(), "points")
			m := newMoving(t, same, content)
			require.Equal(t, "proven", string(m.run("", points)))
			m.ended()
			b, err := os.ReadFile(points)
			require.NoError(t, err)
			var passed []string
			for _, name := range strings.Split(strings.TrimSpace(string(b)), "\n") {
				if !strings.HasPrefix(name, "remove") { // of trials when pools are added, mostly
					passed = append(passed, name)
				}
			}
			require.NotEmpty(t, passed)
			for range kills {
				m := newMoving(t, same, content)
				name := passed[random.IntN(len(passed))]
				at := name + ":" + strconv.Itoa(1+random.IntN(3))
				if outcome := m.run(at, ""); outcome == "" {
					m.whole(at)
					assert.Equal(t, "proven", string(m.run("", "")), at)
				}
				m.ended()
			}
		})
	}
}

// moving is a disk that moves from the quay to the lighthouse.
type moving struct {
	t        *testing.T
	from, to string
	state    string
	content  []byte
}

func newMoving(t *testing.T, same bool, content []byte) *moving {
	m := &moving{t: t, from: t.TempDir(), to: t.TempDir(), state: filepath.Join(t.TempDir(), "state"), content: content}
	if !same {
		if os.Getuid() != 0 {
			t.Skip("mounting a filesystem takes root")
		}
		require.NoError(t, unix.Mount("tmpfs", m.to, "tmpfs", 0, "size=100m"))
		t.Cleanup(func() { require.NoError(t, unix.Unmount(m.to, unix.MNT_DETACH)) })
	}
	require.NoError(t, os.WriteFile(filepath.Join(m.from, "ledger.raw"), content, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(m.from, "cargo-ledger.vmx"), []byte(`ide0:0.fileName = "ledger.raw"`), 0o600))
	s := testkit.Start(t, m.state)
	for name, dir := range map[string]string{"quay-store": m.from, "lighthouse-store": m.to} {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Folder: dir})
		require.NoError(t, err)
	}
	s.Stop()
	return m
}

// run runs the service until the move has ended, or until it is killed at a point; then the outcome is empty.
func (m *moving) run(killAt, points string) api.JobOutcome {
	s := testkit.StartBinary(
		m.t,
		testkit.Torture(m.t),
		[]string{"BAGAGLIO_KILL_AT=" + killAt, "BAGAGLIO_POINTS=" + points},
		m.state,
		"--checkpoint",
		"15ms",
	)
	defer s.Kill()
	return outcome(m.t, s, plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "quay-store", Path: "ledger.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "deck/ledger.raw"},
	})
}

// outcome is that of the only job, which is started where there is none; empty where the service is killed before it has one.
func outcome(t *testing.T, s *testkit.Service, r plan.Request) api.JobOutcome {
	if jobs, err := s.Jobs(t.Context(), 1); err == nil && len(jobs) == 0 {
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		_, _ = s.Start(t.Context(), api.NewJob{Plan: kept.Id}) // it may be killed during that
	}
	return last(t, s)
}

// last is the outcome of the last job, empty where the service is killed before it has one.
func last(t *testing.T, s *testkit.Service) api.JobOutcome {
	jobs, err := s.Jobs(t.Context(), 1)
	if err != nil || len(jobs) == 0 {
		return ""
	}
	last := jobs[0]
	for j, err := range s.Follow(t.Context(), last.Id) {
		if err != nil {
			return ""
		}
		last = j
	}
	if !last.Ended || last.Outcome == nil {
		return ""
	}
	return *last.Outcome
}

// defined is what the definition names as its disk, which it does at every moment.
func (m *moving) defined(what string) string {
	m.t.Helper()
	b, err := os.ReadFile(filepath.Join(m.from, "cargo-ledger.vmx"))
	require.NoError(m.t, err, what)
	name, ok := strings.CutPrefix(string(b), `ide0:0.fileName = "`)
	require.True(m.t, ok, "%s: the definition reads %q", what, b)
	return strings.TrimSuffix(name, `"`)
}

// whole fails unless the disk is whole in one of its places, and in the one that its machine looks for once that was changed.
func (m *moving) whole(what string) {
	m.t.Helper()
	if name := m.defined(what); name != "ledger.raw" {
		b, err := os.ReadFile(name)
		require.NoError(m.t, err, what)
		require.True(m.t, bytes.Equal(b, m.content), what)
	}
	at := []string{filepath.Join(m.from, "ledger.raw"), filepath.Join(m.to, "deck/ledger.raw")}
	held, err := filepath.Glob(filepath.Join(m.from, ".bagaglio/held/*/files/ledger.raw"))
	require.NoError(m.t, err)
	for _, path := range append(at, held...) {
		if b, err := os.ReadFile(path); err == nil {
			if bytes.Equal(b, m.content) {
				return
			}
			require.NotEqual(m.t, at[1], path, "killed at %s: a part lies under the final name", what)
		}
	}
	m.t.Fatalf("killed at %s: the disk is whole nowhere", what)
}

func (m *moving) ended() {
	m.t.Helper()
	b, err := os.ReadFile(filepath.Join(m.to, "deck/ledger.raw"))
	require.NoError(m.t, err)
	require.True(m.t, bytes.Equal(m.content, b))
	require.NoFileExists(m.t, filepath.Join(m.from, "ledger.raw"))
	require.NoDirExists(m.t, filepath.Join(m.to, ".bagaglio/staging"))
	require.NoDirExists(m.t, filepath.Join(m.from, ".bagaglio/staging"))
	require.Equal(m.t, filepath.Join(m.to, "deck/ledger.raw"), m.defined("at the end"))
	held, err := filepath.Glob(filepath.Join(m.from, ".bagaglio/held/*/files/cargo-ledger.vmx"))
	require.NoError(m.t, err)
	require.Len(m.t, held, 1, "the old definition")
}
