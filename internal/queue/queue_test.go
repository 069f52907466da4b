package queue

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/planner"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
	"bagaglio/internal/vault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"
)

// rooms are a queue and those that it needs.
func rooms(t *testing.T) (*Queue, *places.Places, *planner.Planner) {
	t.Helper()
	state, log := t.TempDir(), slog.New(slog.DiscardHandler)
	r, err := records.Open(t.Context(), state, records.Options{}, log)
	require.NoError(t, err)
	keys, err := vault.Open(state)
	require.NoError(t, err)
	p, err := places.Open(r, keys, places.Options{State: state, Mark: "mark", Hold: disks.HoldFor}, log)
	require.NoError(t, err)
	pl := planner.New(r, p, machines.New(r, p, log), t.TempDir(), log)
	q, err := Open(t.Context(), r, p, pl, Options{State: state, Hold: disks.HoldFor, Serves: func(string) string { return "" }}, log)
	require.NoError(t, err)
	t.Cleanup(func() {
		pl.Close()
		q.Close()
		require.NoError(t, p.Close())
		require.NoError(t, r.Close())
	})
	return q, p, pl
}

// TestNotStartedWhileItIsSetAside: a job that is in the queue again while its last run is still being noted waits for that.
func TestNotStartedWhileItIsSetAside(t *testing.T) {
	q, p, pl := rooms(t)
	quay := t.TempDir()
	_, err := p.AddPool(t.Context(), store.Pool{Name: "quay-store", Folder: quay}, false)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "tide-board.raw"), make([]byte, 1<<20), 0o600))
	kept, err := pl.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "tide-board.qcow2"},
		As:          "qcow2",
	})
	require.NoError(t, err)
	q.mu.Lock()
	earlier := &run{stop: func(error) {}, meter: rate.NewLimiter(rate.Inf, burst)}
	q.running[1] = earlier
	q.mu.Unlock()
	j, err := q.Start(t.Context(), New{Plan: kept.ID})
	require.NoError(t, err)
	require.Equal(t, int64(1), j.ID)
	assert.Equal(t, store.Waiting, j.State)
	assert.Equal(t, "waits until it has been set aside", j.Reason)
	q.mu.Lock()
	assert.Same(t, earlier, q.running[1])
	delete(q.running, 1)
	q.mu.Unlock()
	q.dispatch()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	jobs, err := q.Follow(ctx, "1")
	require.NoError(t, err)
	for j = range jobs {
		if j.State == store.Done {
			break
		}
	}
	assert.Equal(t, store.Done, j.State)
}
