package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// authorised are the headers of a request by hand.
func authorised(s *testkit.Service) map[string]string {
	return map[string]string{"Authorization": "Bearer " + s.Token, "Content-Type": "application/json"}
}

// TestPlansAreKept: a plan can be read again, says where it is, and started twice it is one job.
func TestPlansAreKept(t *testing.T) {
	t.Parallel()
	s := start(t)
	noise(t, s.Pool("quay-store"), "gate.raw", mib)
	s.Pool("lighthouse-store")
	made := call{
		method: http.MethodPost,
		path:   "/v1/plans",
		header: authorised(s),
		body:   `{"kind":"convert","as":"qcow2","source":{"pool":"quay-store","path":"gate.raw"},"destination":{"pool":"lighthouse-store","path":"gate.qcow2"}}`,
	}.do(t, s)
	require.Equal(t, http.StatusCreated, made.StatusCode)
	var kept api.KeptPlan
	require.NoError(t, json.NewDecoder(made.Body).Decode(&kept))
	assert.Equal(t, "/v1/plans/"+kept.Id, made.Header.Get("Location"))
	again, err := s.KeptPlan(t.Context(), kept.Id)
	require.NoError(t, err)
	assert.Equal(t, kept.Plan.Steps, again.Plan.Steps)
	assert.Nil(t, again.Job)

	var ids []string
	for range 2 {
		started := call{method: http.MethodPost, path: "/v1/jobs", header: authorised(s), body: fmt.Sprintf(`{"plan":%q}`, kept.Id)}.do(t, s)
		require.Equal(t, http.StatusCreated, started.StatusCode)
		var j api.Job
		require.NoError(t, json.NewDecoder(started.Body).Decode(&j))
		assert.Equal(t, "/v1/jobs/"+j.Id, started.Header.Get("Location"))
		ids = append(ids, j.Id)
	}
	assert.Equal(t, ids[0], ids[1])
	testkit.Proven(t, s.Service, ids[0])
	again, err = s.KeptPlan(t.Context(), kept.Id)
	require.NoError(t, err)
	assert.Equal(t, &ids[0], again.Job)
}

// TestListsGoOn: a list is read page by page, and by state; jobs in it have no plans.
func TestListsGoOn(t *testing.T) {
	t.Parallel()
	s := start(t)
	noise(t, s.Pool("quay-store"), "gate.raw", mib)
	s.Pool("lighthouse-store")
	for i := range 5 {
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, convert("gate.raw", fmt.Sprintf("gate-%d.qcow2", i), "qcow2")).Id)
	}
	var ids []string
	p := api.ListJobsParams{Limit: ptr(2)}
	for pages := 1; ; pages++ {
		list, err := s.ListJobs(t.Context(), p)
		require.NoError(t, err)
		for _, j := range list.Items {
			assert.Nil(t, j.Plan)
			ids = append(ids, j.Id)
		}
		if p.Cursor = list.Next; p.Cursor == nil {
			assert.Equal(t, 3, pages)
			break
		}
	}
	assert.Equal(t, []string{"5", "4", "3", "2", "1"}, ids)
	waiting := api.JobStateWaiting
	list, err := s.ListJobs(t.Context(), api.ListJobsParams{State: &waiting})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
	var answer *client.Error
	_, err = s.ListJobs(t.Context(), api.ListJobsParams{Cursor: ptr("behind")})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, "urn:bagaglio:invalid", answer.Type)
}

// TestProblemsHaveTypes that stay, and carry what programs go on with.
func TestProblemsHaveTypes(t *testing.T) {
	t.Parallel()
	s := start(t)
	noise(t, s.Pool("quay-store"), "gate.raw", mib)
	noise(t, s.Pool("lighthouse-store"), "there.qcow2", mib)
	kept, err := s.Plan(t.Context(), convert("gate.raw", "there.qcow2", "qcow2"))
	require.NoError(t, err)
	require.True(t, kept.Blocked)
	var answer *client.Error
	_, err = s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, api.ProblemBlocked, answer.Type)
	require.NotNil(t, answer.Checks)
	assert.Equal(t, kept.Plan.With(plan.Blocks), *answer.Checks, "with their remedies")

	_, err = s.Job(t.Context(), "4711")
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, "urn:bagaglio:not-found", answer.Type)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: t.TempDir()})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, "urn:bagaglio:taken", answer.Type)
	_, err = s.Again(t.Context(), "nonsense")
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, "urn:bagaglio:not-found", answer.Type)
}

// TestTwoPeopleChangeOnePool: whoever comes second is told, and changes nothing.
func TestTwoPeopleChangeOnePool(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.Pool("quay-store")
	read, err := s.Service.Pool(t.Context(), "quay-store")
	require.NoError(t, err)
	got := call{method: http.MethodGet, path: "/v1/pools/quay-store", header: authorised(s)}.do(t, s)
	assert.Equal(t, read.Etag, got.Header.Get("ETag"))
	first, err := s.ChangePoolIf(t.Context(), "quay-store", read.Etag, api.PoolChange{Rules: plan.Rules{Mode: "0640"}})
	require.NoError(t, err)
	assert.NotEqual(t, read.Etag, first.Etag)
	var answer *client.Error
	_, err = s.ChangePoolIf(t.Context(), "quay-store", read.Etag, api.PoolChange{Rules: plan.Rules{Mode: "0600"}})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, 412, answer.Status)
	assert.Equal(t, "urn:bagaglio:changed", answer.Type)
	now, err := s.Service.Pool(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Equal(t, "0640", now.Rules.Mode)
	_, err = s.ChangePoolIf(t.Context(), "quay-store", now.Etag, api.PoolChange{Rules: plan.Rules{Mode: "0600"}})
	require.NoError(t, err)
}
