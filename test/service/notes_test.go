package service

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsNoted: who was refused is no token, and a job that failed is an error.
func TestWhatIsNoted(t *testing.T) {
	t.Parallel()
	s := start(t)
	noise(t, s.Pool("quay-store"), "ticketing.raw", mib)
	stranger, err := client.Dial(s.Address, "not-the-token")
	require.NoError(t, err)
	require.ErrorContains(t, stranger.RemovePool(t.Context(), "quay-store"), "the token is not the one of this service")
	events, err := s.Events(t.Context(), 0, "", 10)
	require.NoError(t, err)
	assert.Contains(t, events[0].Who, "a wrong token")
	assert.Contains(t, events[0].Result, http.StatusText(http.StatusUnauthorized))
	j := testkit.Begin(
		t,
		s.Service,
		plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"}, Against: "bf1-" + strings.Repeat("0", 64)},
	)
	for _, err := range s.Follow(t.Context(), j.Id) {
		require.NoError(t, err)
	}
	s.Stop()
	assert.Regexp(t, `(?m)^.*ERROR.*job ended.*state=failed.*head="1 `, s.Notes())
}

// TestATrialLeavesTheRules that were changed while it ran.
func TestATrialLeavesTheRules(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.Pool("quay-store")
	ended := make(chan error)
	go func() {
		_, err := s.TestPool(t.Context(), "quay-store", false)
		ended <- err
	}()
	var changed int
	for going := true; going; {
		select {
		case err := <-ended:
			require.NoError(t, err)
			going = false
		default:
			changed++
			_, err := s.ChangePool(t.Context(), "quay-store", api.PoolChange{Rules: plan.Rules{LargestDisk: int64(changed) << 20}})
			require.NoError(t, err)
		}
	}
	p, err := s.Service.Pool(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Equal(t, int64(changed)<<20, p.Rules.LargestDisk)
	assert.Positive(t, p.Facts.ReadSpeed)
}

// TestAGroupIsWhole although the line to who started it was cut.
func TestAGroupIsWhole(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	lighthouse := s.Pool("lighthouse-store")
	require.NotEmpty(t, lighthouse)
	var requests []plan.Request
	for i := range 40 {
		name := fmt.Sprintf("deck-%02d.raw", i)
		noise(t, quay, name, mib)
		requests = append(
			requests,
			plan.Request{
				Kind:        plan.Copy,
				Source:      plan.Place{Pool: "quay-store", Path: name},
				Destination: &plan.Place{Pool: "lighthouse-store", Path: name},
			},
		)
	}
	for _, after := range []time.Duration{0, time.Millisecond, 5 * time.Millisecond, 25 * time.Millisecond} {
		g, err := s.PlanGroup(t.Context(), api.NewGroupPlan{Name: "the whole deck", Requests: &requests})
		require.NoError(t, err)
		require.False(t, g.Blocked)
		ctx, cut := context.WithTimeout(t.Context(), after)
		_, err = s.StartGroup(ctx, g.Id)
		cut()
		if err != nil {
			require.ErrorIs(t, err, context.DeadlineExceeded)
		}
		_, err = s.StartGroup(t.Context(), g.Id) // whatever came of that, it is one group
		require.NoError(t, err)
		groups, err := s.Groups(t.Context())
		require.NoError(t, err)
		for _, g := range groups {
			require.Len(t, g.Jobs, len(requests))
		}
		_, err = s.ActOnGroup(t.Context(), groups[0].Id, "cancel")
		require.NoError(t, err)
		for _, j := range groups[0].Jobs {
			testkit.Await(t, s.Service, j.Id)
		}
		for i := range requests { // for the next time
			to := *requests[i].Destination
			to.Path = "again/" + to.Path
			requests[i].Destination = &to
		}
	}
	groups, err := s.Groups(t.Context())
	require.NoError(t, err)
	assert.Len(t, groups, 4)
}
