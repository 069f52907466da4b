package testkit

import (
	"context"
	"crypto/rand"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/require"
)

// Noise writes a disk of random content, and the folders above it.
func Noise(t *testing.T, file string, size int64) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	f, err := os.Create(file)
	require.NoError(t, err)
	_, err = io.CopyN(f, rand.Reader, size)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	Settled(t, file)
}

// Settled waits until nobody has a file open for writing: a process that another test starts at this moment has all of ours open until it
// runs.
func Settled(t *testing.T, file string) {
	t.Helper()
	folder, err := local.Open(filepath.Dir(file))
	require.NoError(t, err)
	defer folder.Close()
	require.Eventually(t, func() bool {
		why, err := folder.InUse(storage.ShownName(filepath.Base(file)))
		return err == nil && why == ""
	}, 30*time.Second, time.Millisecond)
}

// Begin plans and starts a request.
func Begin(t *testing.T, s *client.Service, r plan.Request) api.Job {
	t.Helper()
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(t, err)
	return j
}

// waitAtMost is for how long a job is waited for.
const waitAtMost = 4 * time.Minute

// Await follows a job to its end, or until one of the conditions holds.
func Await(t *testing.T, s *client.Service, id string, until ...func(api.Job) bool) api.Job {
	t.Helper()
	var last api.Job
	ctx, cancel := context.WithTimeout(t.Context(), waitAtMost)
	defer cancel()
	for j, err := range s.Follow(ctx, id) {
		if ctx.Err() != nil && t.Context().Err() == nil {
			require.Fail(t, "the job does not come so far", "%+v", last)
		}
		require.NoError(t, err)
		last = j
		for _, holds := range until {
			if holds(j) {
				return j
			}
		}
	}
	require.True(t, last.Ended)
	return last
}

// Proven waits for a job that has to be proven.
func Proven(t *testing.T, s *client.Service, id string) receipt.Receipt {
	t.Helper()
	j := Await(t, s, id, func(j api.Job) bool { return j.State == api.JobStateAsking })
	require.Nil(t, j.Question, "nobody is there to answer")
	if j.Reason != nil {
		require.Equal(t, api.JobStateDone, j.State, *j.Reason)
	}
	done, err := s.Receipt(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, receipt.Proven, done.Outcome)
	return done
}

// Kinds are those of the steps of a plan, in their order.
func Kinds(p plan.Plan) (kinds []string) {
	for _, s := range p.Steps {
		kinds = append(kinds, s.Kind)
	}
	return kinds
}

// StepOf returns the step of a kind.
func StepOf(t *testing.T, p plan.Plan, kind string) plan.Step {
	t.Helper()
	i := slices.Index(Kinds(p), kind)
	require.GreaterOrEqual(t, i, 0, "no step %s", kind)
	return p.Steps[i]
}

// Balance plans a balance, as a group that can be started.
func Balance(t *testing.T, s *client.Service, r plan.BalanceRequest) (plan.Balance, api.GroupPlan) {
	t.Helper()
	g, err := s.PlanGroup(t.Context(), api.NewGroupPlan{Name: r.Kind, Balance: &r})
	require.NoError(t, err)
	require.Nil(t, g.Problem)
	return *g.Balanced, g
}

// Limit sets a limit.
func Limit(t *testing.T, s *client.Service, l api.Limit) {
	t.Helper()
	_, err := s.SetLimit(t.Context(), l)
	require.NoError(t, err)
}
