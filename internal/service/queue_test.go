package service

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"
)

// TestNotStartedWhileItIsSetAside: a job that is in the queue again while its last run is still being noted waits for that.
func TestNotStartedWhileItIsSetAside(t *testing.T) {
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "state"), Options{Hold: disks.HoldFor}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	quay := t.TempDir()
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: quay})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "tide-board.raw"), make([]byte, 1<<20), 0o600))
	kept, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "tide-board.qcow2"},
		As:          "qcow2",
	})
	require.NoError(t, err)
	s.mu.Lock()
	earlier := &run{stop: func(error) {}, meter: rate.NewLimiter(rate.Inf, burst)}
	s.running[1] = earlier
	s.mu.Unlock()
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(t, err)
	require.Equal(t, "1", j.Id)
	assert.Equal(t, api.JobStateWaiting, j.State)
	assert.Equal(t, "waits until it has been set aside", *j.Reason)
	s.mu.Lock()
	assert.Same(t, earlier, s.running[1])
	delete(s.running, 1)
	s.mu.Unlock()
	s.dispatch()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	jobs, err := s.Follow(ctx, "1")
	require.NoError(t, err)
	for j = range jobs {
		if j.State == api.JobStateDone {
			break
		}
	}
	assert.Equal(t, api.JobStateDone, j.State)
}
