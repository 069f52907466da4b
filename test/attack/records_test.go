package attack

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	_ "modernc.org/sqlite" // the driver
)

// health asks whether the service is well.
func health(t *testing.T, s *testkit.Service) (api.Health, int) {
	t.Helper()
	answer, err := http.Get(s.Address + "/v1/health")
	require.NoError(t, err)
	defer answer.Body.Close()
	var h api.Health
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&h))
	return h, answer.StatusCode
}

// becomes waits until the service says that it is in a state of health.
func becomes(t *testing.T, s *testkit.Service, want api.HealthStatus) {
	t.Helper()
	require.Eventually(t, func() bool { h, _ := health(t, s); return h.Status == want }, time.Minute, 50*time.Millisecond, want)
}

// slowJob starts a job that takes some seconds, and returns when it runs.
func slowJob(t *testing.T, s *testkit.Service, quay string) api.Job {
	t.Helper()
	testkit.Noise(t, filepath.Join(quay, "tide.raw"), 8*mib)
	kept, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Source:      plan.Place{Pool: "quay-store", Path: "tide.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "tide.qcow2"},
	})
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: ptr(int64(2 * mib))})
	require.NoError(t, err)
	return testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
}

// TestRecordsThatAreLocked: another program locks the records for a while. A job that runs waits, loses nothing and goes on; the service
// says so.
func TestRecordsThatAreLocked(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--checkpoint", "100ms")
	quay := s.Pool("quay-store")
	j := slowJob(t, s, quay)
	db, err := sql.Open("sqlite", filepath.Join(s.State, "records.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	line, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = line.ExecContext(t.Context(), "BEGIN EXCLUSIVE")
	require.NoError(t, err)
	becomes(t, s, api.HealthStatusWaiting)
	h, status := health(t, s)
	assert.Equal(t, http.StatusServiceUnavailable, status)
	require.NotNil(t, h.Problem)
	assert.Contains(t, *h.Problem, "go on by themselves")
	assert.Zero(t, metric(t, s, "bagaglio_records_writable"))
	_, err = s.Plan(t.Context(), move("quay-store:tide.raw", "quay-store:other.raw"))
	require.ErrorContains(t, err, "cannot write its records")
	_, err = line.ExecContext(context.WithoutCancel(t.Context()), "ROLLBACK")
	require.NoError(t, err)
	require.NoError(t, line.Close())
	becomes(t, s, api.HealthStatusWell)
	for j.Finished == nil {
		j = testkit.Await(t, s.Service, j.Id)
	}
	receipt := testkit.Proven(t, s.Service, j.Id)
	assert.Zero(t, receipt.Resumed, "it was never set aside")
}

// TestAFullStateDisk: the disk of the state folder has no room left. A job that runs waits, also at its very end, and goes on when there
// is room.
func TestAFullStateDisk(t *testing.T) {
	t.Parallel()
	state := t.TempDir()
	if err := unix.Mount("tmpfs", state, "tmpfs", 0, "size=3m"); err != nil {
		t.Skipf("this computer lets us mount nothing: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(state, unix.MNT_DETACH)) })
	s := testkit.Start(t, filepath.Join(state, "state"), "--checkpoint", "20ms")
	quay := s.Pool("quay-store")
	j := slowJob(t, s, quay)
	filler, err := os.Create(filepath.Join(state, "filler"))
	require.NoError(t, err)
	for err == nil {
		_, err = io.CopyN(filler, zeros{}, 4096)
	}
	require.True(t, errors.Is(err, syscall.ENOSPC), err)
	becomes(t, s, api.HealthStatusWaiting)
	require.NoError(t, filler.Close())
	require.NoError(t, os.Remove(filler.Name()))
	becomes(t, s, api.HealthStatusWell)
	for j.Finished == nil {
		j = testkit.Await(t, s.Service, j.Id)
	}
	testkit.Proven(t, s.Service, j.Id)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
