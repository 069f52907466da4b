package service

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/engines"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keptElsewhere is a service whose records are kept in an engine, with the file of the recovery key, and a pool with a disk of so many bytes.
func keptElsewhere(t *testing.T, engine *engines.Cluster, copies string, size int64) (s *testkit.Service, key, folder string) {
	t.Helper()
	key = filepath.Join(t.TempDir(), "recovery.key")
	made := testkit.Run(t, t.TempDir(), "", "recovery", "key")
	require.Zero(t, made.Code, made.Notes)
	require.NoError(t, os.WriteFile(key, []byte(made.Out), 0o600))
	_, to, _ := strings.Cut(strings.Split(made.Out, "\n")[0], "known by ")
	s = testkit.Start(
		t,
		filepath.Join(t.TempDir(), "state"),
		"--engine",
		engine.URL,
		"--engine-copies",
		copies,
		"--recovery-to",
		to,
		"--porters",
		"127.0.0.1:0",
		"--checkpoint",
		"100ms",
	)
	folder = t.TempDir()
	addPool(t, s.Service, "quay-store", folder)
	noise(t, folder, "ticketing.raw", size)
	return s, key, folder
}

// TestAnotherServiceTakesOver when one has died with its disk, and one of three engines too: no job is lost, and the one that ran goes on.
func TestAnotherServiceTakesOver(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	engine := engines.Start(t, 3)
	s, key, folder := keptElsewhere(t, engine, "3", 48<<20)
	r := plan.Request{
		Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "first.qcow2"},
	}
	first := testkit.Begin(t, s.Service, r)
	testkit.Proven(t, s.Service, first.Id)
	r.Destination = &plan.Place{Pool: "quay-store", Path: "second.qcow2"}
	second := testkit.Begin(t, s.Service, r)
	slow, none := int64(8<<20), int64(0)
	_, err := s.Change(t.Context(), second.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, second.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 16<<20 })
	engine.Kill(1)
	var checked testkit.Result
	require.Eventually(t, func() bool {
		checked = testkit.Run(t, t.TempDir(), s.State, "recovery", "check", "--engine", engine.URL, "--recovery-key", key)
		return strings.Contains(checked.Out, "jobs running")
	}, 30*time.Second, 100*time.Millisecond, "a few seconds may be lost")
	assert.Regexp(t, `jobs running +1\njobs done +1\nreceipts +1\nwould be lost +0 receipts of 1`, checked.Out)
	testkit.Await(t, s.Service, second.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 32<<20 })
	seals, err := s.Seals(t.Context(), 0)
	require.NoError(t, err)

	s.Kill()
	require.NoError(t, os.RemoveAll(s.State))
	other := testkit.Start(
		t, filepath.Join(t.TempDir(), "state"), "--engine", engine.URL, "--engine-copies", "3", "--recovery-key", key, "--porters", "127.0.0.1:0",
	)
	_, err = other.Change(t.Context(), second.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, other.Service, second.Id)
	assert.Positive(t, done.Resumed, "from its last mark")
	want, err := os.ReadFile(filepath.Join(folder, "ticketing.raw"))
	require.NoError(t, err)
	assert.Equal(t, int64(len(want)), done.Source.VirtualSize)
	now, err := other.Seals(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, seals.Seals[0], now.Seals[0], "receipts are those that were written")
	assert.NotContains(t, other.Notes(), "are not those that were written")
	assert.Equal(t, s.Token, other.Token, "whoever had the token has it still")
}

// TestTheOldOneWritesNothing when it wakes behind another one that has taken over, and does not start again with its old records.
func TestTheOldOneWritesNothing(t *testing.T) {
	t.Parallel()
	engine := engines.Start(t, 1)
	s, key, folder := keptElsewhere(t, engine, "1", 64<<20)
	job := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "copy.raw"},
	})
	slow, none := int64(8<<20), int64(0)
	_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 16<<20 })
	require.Eventually(t, func() bool { // a few seconds may be lost
		return strings.Contains(
			testkit.Run(t, t.TempDir(), "", "recovery", "check", "--engine", engine.URL, "--recovery-key", key).Out,
			"jobs running",
		)
	}, 30*time.Second, 100*time.Millisecond)

	without := testkit.Run(t, t.TempDir(), "", "serve", "--listen", "127.0.0.1:0", "--engine", engine.URL, "--recovery-to", knownBy(t, key))
	assert.NotZero(t, without.Code)
	assert.Contains(t, without.Notes, "give the recovery key to take over")

	require.NoError(t, syscall.Kill(s.Process(), syscall.SIGSTOP))
	other := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--engine", engine.URL, "--recovery-key", key, "--porters", "127.0.0.1:0")
	_, err = other.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	testkit.Proven(t, other.Service, job.Id)
	require.NoError(t, syscall.Kill(s.Process(), syscall.SIGCONT))
	s.Ended()
	assert.Contains(t, s.Notes(), "does not hold its records any more")
	want, err := os.ReadFile(filepath.Join(folder, "ticketing.raw"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(folder, "copy.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))

	again := testkit.Run(t, t.TempDir(), s.State, "serve", "--listen", "127.0.0.1:0", "--engine", engine.URL, "--recovery-to", knownBy(t, key))
	assert.NotZero(t, again.Code)
	assert.Contains(t, again.Notes, "another service has taken over")
	other.Stop()
	back := testkit.Start(t, other.State, "--engine", engine.URL, "--recovery-to", knownBy(t, key), "--porters", "127.0.0.1:0")
	_, err = back.Job(t.Context(), job.Id)
	require.NoError(t, err, "the one that holds them starts again with its own")
}

// TestPortersFollow the service that has taken over, and go on with what they did; what an older one says is not heard.
func TestPortersFollow(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	engine := engines.Start(t, 1)
	s, key, _ := keptElsewhere(t, engine, "1", 1<<20)
	p := testkit.Join(t, s, "annex")
	folder := t.TempDir()
	noise(t, folder, "ticketing.raw", 48<<20)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "annex-store", Host: ptr("annex"), Folder: folder})
	require.NoError(t, err)
	job := testkit.Begin(t, s.Service, toQcow2)
	slow, none := int64(8<<20), int64(0)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 8<<20 })
	require.Eventually(t, func() bool {
		return strings.Contains(
			testkit.Run(t, t.TempDir(), "", "recovery", "check", "--engine", engine.URL, "--recovery-key", key).Out,
			"jobs running",
		)
	}, 30*time.Second, 100*time.Millisecond)
	s.Kill()
	other := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--engine", engine.URL, "--recovery-key", key, "--porters", "127.0.0.1:0")
	i, err := other.InvitePorter(t.Context(), "beacon") // which tells where it listens
	require.NoError(t, err)
	p.Kill()
	p.Flags("--service", i.Listens)
	p.Start()
	p.Connected(other)
	_, err = other.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, other.Service, job.Id)
	assert.Equal(t, "annex", done.Porter)
	assert.Positive(t, done.Resumed)
}

func knownBy(t *testing.T, key string) string {
	t.Helper()
	text, err := os.ReadFile(key)
	require.NoError(t, err)
	_, to, _ := strings.Cut(strings.Split(string(text), "\n")[0], "known by ")
	return to
}
