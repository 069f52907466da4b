package planner

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
	"bagaglio/internal/vault"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms are a planner and what it needs, with a pool of small disks.
func rooms(t *testing.T, disks int) (s *Planner, r *records.Records, state string) {
	t.Helper()
	state, log := t.TempDir(), slog.New(slog.DiscardHandler)
	r, err := records.Open(t.Context(), state, records.Options{}, log)
	require.NoError(t, err)
	keys, err := vault.Open(state)
	require.NoError(t, err)
	p, err := places.Open(r, keys, places.Options{State: state, Mark: "mark"}, log)
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, p.Close())
		require.NoError(t, r.Close())
	})
	quay := t.TempDir()
	for i := range disks {
		require.NoError(t, os.WriteFile(filepath.Join(quay, fmt.Sprintf("deck-%d.raw", i)), make([]byte, 1<<20), 0o600))
	}
	_, err = p.AddPool(t.Context(), store.Pool{Name: "quay-store", Folder: quay}, false)
	require.NoError(t, err)
	return New(r, p, machines.New(r, p, log), t.TempDir(), log), r, state
}

func requests(n int) (all []plan.Request) {
	for i := range n {
		all = append(all, plan.Request{
			Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "quay-store", Path: fmt.Sprintf("deck-%d.raw", i)},
			Destination: &plan.Place{Pool: "quay-store", Path: fmt.Sprintf("deck-%d.qcow2", i)},
		})
	}
	return all
}

// TestAGroupIsPlannedInTheBackground: it can be asked for meanwhile, also by a service that was started again in the middle, and is whole then.
func TestAGroupIsPlannedInTheBackground(t *testing.T) {
	s, r, _ := rooms(t, 20)
	g := plan.Group{Name: "deck", Requests: requests(20), Parts: []plan.Part{}}
	require.NoError(t, r.AddGroupPlan(t.Context(), "half-made", g, time.Now())) // by a run that ended before it was made
	var kept KeptGroup
	require.Eventually(t, func() bool {
		var err error
		kept, err = s.KeptGroup(t.Context(), "half-made")
		require.NoError(t, err)
		assert.LessOrEqual(t, kept.Done, 20)
		return kept.Plan.Ready
	}, 20*time.Second, 5*time.Millisecond)
	assert.Len(t, kept.Plan.Parts, 20)
	assert.False(t, kept.Plan.Blocked())
	for i, part := range kept.Plan.Parts {
		assert.Equal(t, g.Requests[i].Source.Path, part.Request.Source.Path)
	}
	s.Close()
	_, err := s.KeptGroup(t.Context(), "nothing")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.PlanGroup(t.Context(), plan.Group{Name: "both", Requests: g.Requests, Balance: &plan.BalanceRequest{}})
	require.ErrorIs(t, err, records.ErrInvalid)
}

// TestThePlannerEnds although the records cannot be written, once nobody waits for them any more.
func TestThePlannerEnds(t *testing.T) {
	s, r, state := rooms(t, 1)
	g := plan.Group{Name: "deck", Requests: requests(1)}
	require.NoError(t, r.AddGroupPlan(t.Context(), "locked", g, time.Now()))
	db, err := sqlx.Open("sqlite", filepath.Join(state, "records.sqlite")+"?_txlock=exclusive&_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.Beginx()
	require.NoError(t, err)
	defer tx.Rollback() //nolint:errcheck // it only holds the lock
	m := s.make("locked", g)
	require.Eventually(t, func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		return m.done == 1
	}, 60*time.Second, 10*time.Millisecond)
	r.GiveUp()
	ended := make(chan struct{})
	go func() {
		s.Close()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(60 * time.Second):
		t.Fatal("it does not end")
	}
}
