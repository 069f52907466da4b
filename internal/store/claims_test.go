package store

import (
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// journal is one that tells itself from others.
func journal(back string) step.Journal { return step.Journal{Version: 2, Back: back} }

// TestOlderEpochsAreRefused: a job that was set aside and begun again by another runner takes nothing more from the one before.
func TestOlderEpochsAreRefused(t *testing.T) {
	s, ctx := records(t), t.Context()
	id, err := addTwoSteps(s, time.Now())
	require.NoError(t, err)
	first, err := s.StartJob(ctx, id, []Lease{{File: "local:/a", Writes: true}}, "first", Event{}, time.Now())
	require.NoError(t, err)
	require.NoError(t, s.Checkpoints(first).Keep(ctx, journal("first"), &step.Mark{Step: "disk1.fill", Mark: []byte("first")}))
	require.NoError(t, s.SetAside(ctx, first, Running, Waiting, "", false))
	require.ErrorIs(t, s.Checkpoints(first).Keep(ctx, step.Journal{}, nil), ErrOutdated, "it does not run")
	require.ErrorIs(t, s.RenewClaim(ctx, first, time.Now()), ErrOutdated)

	second, err := s.StartJob(ctx, id, nil, "second", Event{}, time.Now())
	require.NoError(t, err)
	assert.Equal(t, first.Epoch+1, second.Epoch)
	stale := s.Checkpoints(first)
	require.ErrorIs(t, stale.Keep(ctx, journal("stale"), &step.Mark{Step: "disk1.fill", Mark: []byte("stale")}), ErrOutdated)
	require.ErrorIs(t, stale.Forget(ctx, plan.FirstDisk, step.Journal{}), ErrOutdated)
	require.ErrorIs(t, s.RenewClaim(ctx, first, time.Now()), ErrOutdated)
	require.ErrorIs(t, s.SetAside(ctx, first, Running, Paused, "stale", false), ErrNotFound)
	require.ErrorIs(t, s.StopBy(ctx, first, "stale", false, plan.Check{}), ErrNotFound)
	seal := func([]byte) (int64, string, error) { return 1, "seal", nil }
	require.ErrorIs(t, s.EndJob(ctx, first, ending(Running, Done, receipt.Receipt{}, seal), time.Now()), ErrNotFound)
	seals, err := s.Seals(ctx, 0, 10)
	require.NoError(t, err)
	assert.Empty(t, seals, "nothing of it is kept")
	state, err := s.Checkpoints(second).Load(ctx)
	require.NoError(t, err)
	assert.Equal(t, "first", state.Back, "what was kept in time counts")
	leases, err := s.Leases(ctx)
	require.NoError(t, err)
	require.Len(t, leases, 1)
	assert.Equal(t, "second", leases[0].Runner)
	assert.Equal(t, second.Epoch, leases[0].Epoch)
	until, err := time.Parse(time.RFC3339Nano, leases[0].Until)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(ClaimFor), until, time.Minute)
}
