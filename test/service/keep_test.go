package service

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kept is a machine that counts on one host, of which a copy is kept on another one, over SSH.
type kept struct {
	*testkit.Service
	here, there *daemon.Daemon
	job         string
}

func keepCounting(t *testing.T, request func(*plan.Request)) kept {
	t.Helper()
	s, here, there := twoHosts(t)
	here.Disk(t, "ticketing.raw", daemon.Counts(8<<20))
	_, err := s.ChangePool(t.Context(), "quay-store", api.PoolChange{Rules: plan.Rules{Owner: here.Owner, Mode: "0660"}})
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Loaded(t, "ticketing")
	r := liveMove("qcow2")
	r.To, r.Destination, r.KeepEvery = "lighthouse", &plan.Place{Pool: "lamp-room"}, 3600
	request(&r)
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.False(t, p.Blocked, messages(p.Plan))
	assert.Contains(t, messages(p.Plan), "after each time the copy on lighthouse is whole")
	return kept{s, here, there, testkit.Begin(t, s.Service, r).Id}
}

// copied waits for what is said after a pass, or after another one than that of which something was said.
func (k kept) copied(t *testing.T, but step.Question) step.Question {
	t.Helper()
	j := testkit.Await(t, k.Service.Service, k.job, func(j api.Job) bool { return j.Question != nil && !j.Question.Until.Equal(but.Until) })
	require.NotNil(t, j.Question, "%+v", j)
	require.False(t, j.Question.Until.IsZero(), j.Question.Text)
	return *j.Question
}

func (k kept) answer(t *testing.T, name string) {
	t.Helper()
	_, err := k.Answer(t.Context(), k.job, name)
	require.NoError(t, err)
}

// counts is how far the copy has counted, as it lies there.
func (k kept) counts(t *testing.T) uint32 {
	t.Helper()
	all, err := filepath.Glob(filepath.Join(k.there.Dir, "ticketing/*-since*.qcow2"))
	require.NoError(t, err)
	require.NotEmpty(t, all)
	newest := slices.MaxFunc(all, func(a, b string) int { return len(a)*1000 + strings.Compare(a, b) - len(b)*1000 })
	return daemon.Counted(t, read(t, k.there.Dir, "ticketing/"+filepath.Base(newest)))
}

// TestACopyOfAMachineIsKept up to date on another host: each pass brings what its guest wrote since, also when the service was started anew in between; how far it is
// behind is told; the images do not pile up. Then it goes over when it is told so, and has every number.
func TestACopyOfAMachineIsKept(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	k := keepCounting(t, func(*plan.Request) {})
	said, counted := k.copied(t, step.Question{}), uint32(0)
	rounds := fewer.Times(4, 10)
	for n := range rounds {
		now := k.counts(t)
		assert.Greater(t, now, counted)
		counted = now
		if n == 2 {
			k.Kill()
			k.Service = testkit.Start(t, k.State)
		}
		k.here.Loaded(t, "ticketing")
		require.Eventually(t, func() bool {
			j, err := k.Job(t.Context(), k.job)
			return err == nil && j.Behind != nil && *j.Behind.Bytes > 0 && time.Since(j.Behind.Of) < time.Hour
		}, time.Minute, 50*time.Millisecond)
		k.answer(t, "again")
		said = k.copied(t, said)
	}
	for _, dir := range []string{k.here.Dir, filepath.Join(k.there.Dir, "ticketing")} {
		images, err := filepath.Glob(filepath.Join(dir, "*-*.qcow2"))
		require.NoError(t, err)
		assert.Less(t, len(images), rounds+3, "%v", images)
	}
	show := testkit.Run(t, t.TempDir(), k.State, "job", "show", k.job)
	assert.Regexp(t, `(?m)^written since +\d`, show.Out)
	k.answer(t, "now")
	done := testkit.Proven(t, k.Service.Service, k.job)
	assert.True(t, done.Machine.CameUp)
	assert.GreaterOrEqual(t, done.Passes, rounds+1)
	assert.Contains(t, strings.Join(done.Machine.Evidence, "; "), "was handed over with the fingerprint bf1-")
	assert.Empty(t, state(t, k.Service, "local"))
	for _, dir := range []string{k.here.Dir, filepath.Join(k.there.Dir, "ticketing")} {
		left, err := filepath.Glob(filepath.Join(dir, "*-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	_, err := k.StopMachine(t.Context(), "lighthouse", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, k.there.Dir, "ticketing/ticketing.qcow2")), counted)
}

// TestACopyGoesOverWithoutItsHost: where the old host is not to be reached any more, the copy is started as it was copied last.
func TestACopyGoesOverWithoutItsHost(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	k := keepCounting(t, func(*plan.Request) {})
	said := k.copied(t, step.Question{})
	counted := k.counts(t)
	k.here.Kill()
	k.answer(t, "again")
	said = k.copied(t, said)
	require.Contains(
		t,
		said.Text,
		"local is not to be reached, and whether ticketing still runs there is not known. The copy on lighthouse is of ",
	)
	k.answer(t, "without")
	done := testkit.Proven(t, k.Service.Service, k.job)
	assert.True(t, done.Machine.CameUp)
	assert.Contains(t, done.Machine.Source, "still has it")
	assert.Equal(t, api.MachineStateRunning, state(t, k.Service, "lighthouse"))
	_, err := k.StopMachine(t.Context(), "lighthouse", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, k.there.Dir, "ticketing/ticketing.qcow2")), counted)
	assert.FileExists(t, filepath.Join(k.here.Dir, "ticketing.raw"), "what is on its old disks stays")
}

// TestACopyIsKeptNoMore: the job is cancelled, and the machine goes on from its old disk alone, with all that it wrote.
func TestACopyIsKeptNoMore(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	k := keepCounting(t, func(r *plan.Request) { r.KeepEvery = 10 })
	said := k.copied(t, step.Question{})
	k.copied(t, said) // by itself
	_, err := k.Cancel(t.Context(), k.job)
	require.NoError(t, err)
	j := testkit.Await(t, k.Service.Service, k.job)
	assert.Equal(t, api.JobStateCancelled, j.State)
	m, err := k.Machine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(k.here.Dir, "ticketing.raw"), m.Is.Disks[0].File)
	assert.Equal(t, api.MachineStateRunning, m.State)
	for _, dir := range []string{k.here.Dir, filepath.Join(k.there.Dir, "ticketing")} {
		left, err := filepath.Glob(filepath.Join(dir, "*-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	assert.NoFileExists(t, filepath.Join(k.there.Dir, "ticketing/ticketing.qcow2"), "it is held")
	info, err := os.Stat(filepath.Join(k.here.Dir, "ticketing.raw"))
	require.NoError(t, err)
	assert.Positive(t, info.Size())
}
