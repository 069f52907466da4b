package service

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEndedJobsAreTakenBack: the source comes back, the image is held, the machine's definition is what it was; twice is once.
func TestEndedJobsAreTakenBack(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "tide-board.raw", 4*mib)
	content, err := os.ReadFile(filepath.Join(quay, "tide-board.raw"))
	require.NoError(t, err)
	definition := "<domain><name>tide-board</name><devices><disk><driver type='raw'/><source file='tide-board.raw'/></disk></devices></domain>"
	require.NoError(t, os.WriteFile(filepath.Join(quay, "tide-board.xml"), []byte(definition), 0o600))
	is := func(want bool, dir, name string) {
		t.Helper()
		_, err := os.Stat(filepath.Join(dir, name))
		assert.Equal(t, want, err == nil, name)
	}
	undo := func(id string) api.Job {
		t.Helper()
		return testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: id})
	}

	move := convert("tide-board.raw", "board.qcow2", "qcow2")
	move.Release = true
	moved := testkit.Begin(t, s.Service, move)
	testkit.Proven(t, s.Service, moved.Id)
	is(false, quay, "tide-board.raw")
	now, err := os.ReadFile(filepath.Join(quay, "tide-board.xml"))
	require.NoError(t, err)
	assert.Contains(t, string(now), "board.qcow2")
	moved, err = s.Job(t.Context(), moved.Id)
	require.NoError(t, err)
	assert.True(t, moved.Ended)
	assert.Equal(t, []api.JobAction{api.ActAgain, api.ActUndo}, moved.Actions)

	kept, err := s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: moved.Id})
	require.NoError(t, err)
	assert.Equal(t, []string{plan.StepRelease, plan.StepHandOver, plan.StepPublish}, testkit.Kinds(kept.Plan))
	for _, c := range kept.Plan.Checks {
		assert.Equal(t, plan.Informs, c.Severity, "nobody changed anything since: %s", c.Message)
	}
	assert.Equal(t, "board.qcow2", kept.Plan.Before[0].Place.Path)
	assert.Equal(t, "tide-board.raw", kept.Plan.After[0].Place.Path)
	back := undo(moved.Id)
	assert.Equal(t, receipt.Proven, testkit.Proven(t, s.Service, back.Id).Outcome)
	again, err := os.ReadFile(filepath.Join(quay, "tide-board.raw"))
	require.NoError(t, err)
	assert.Equal(t, content, again)
	is(false, lighthouse, "board.qcow2")
	now, err = os.ReadFile(filepath.Join(quay, "tide-board.xml"))
	require.NoError(t, err)
	assert.Equal(t, definition, string(now), "with the format that the disk has now")
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	var paths []string
	for _, h := range held {
		paths = append(paths, h.Path)
	}
	assert.Contains(t, paths, "board.qcow2", "nothing is removed")

	// Again: it says what stands in the way, and nothing happens.
	kept, err = s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: moved.Id})
	require.NoError(t, err)
	assert.True(t, kept.Blocked)
	_, err = s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: back.Id})
	require.ErrorContains(t, err, "start that one again")
	var answer *client.Error
	_, err = s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: "4711"})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, 404, answer.Status)

	// A disk that only got another name is renamed back.
	renamed := testkit.Begin(
		t,
		s.Service,
		plan.Request{
			Kind:        plan.Copy,
			Release:     true,
			Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "old/board.raw"},
		},
	)
	testkit.Proven(t, s.Service, renamed.Id)
	is(false, quay, "tide-board.raw")
	testkit.Proven(t, s.Service, undo(renamed.Id).Id)
	is(true, quay, "tide-board.raw")
	now, err = os.ReadFile(filepath.Join(quay, "tide-board.xml"))
	require.NoError(t, err)
	assert.Equal(t, definition, string(now))

	// Another disk that has come to lie under the new name is not taken for the one that was renamed.
	noise(t, quay, "old/board.raw", mib)
	_, err = s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: renamed.Id})
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, api.ProblemBlocked, answer.Type)
	assert.Contains(t, answer.Detail, "is not what the job made any more")
	is(true, quay, "old/board.raw")

	// Proofs leave nothing.
	proof := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}})
	testkit.Await(t, s.Service, proof.Id)
	_, err = s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: proof.Id})
	require.ErrorContains(t, err, "nothing to take back")
}

// TestAnUndoThatIsInterrupted by a pool that goes away pauses, goes on or is cancelled; nothing is lost.
func TestAnUndoThatIsInterrupted(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "tide-board.raw", mib)
	move := convert("tide-board.raw", "board.qcow2", "qcow2")
	move.Release = true
	for _, cancels := range []bool{true, false} {
		moved := testkit.Begin(t, s.Service, move)
		testkit.Proven(t, s.Service, moved.Id)
		kept, err := s.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: moved.Id})
		require.NoError(t, err)
		later := time.Now().Add(2*time.Hour).Format("15:04") + "-" + time.Now().Add(3*time.Hour).Format("15:04")
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: &later})
		require.NoError(t, err)
		require.NoError(t, os.Rename(lighthouse, lighthouse+"-away"))
		_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: ptr("")})
		require.NoError(t, err)
		testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
		if cancels {
			_, err = s.Cancel(t.Context(), j.Id)
			require.NoError(t, err, "what is to be cleared up there is cleared up later")
			assert.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, j.Id).State)
		}
		require.NoError(t, os.Rename(lighthouse+"-away", lighthouse))
		if cancels { // the source came back first, and the image is still there: to undo again does the rest
			j = testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: moved.Id})
		}
		testkit.Proven(t, s.Service, j.Id)
		assert.FileExists(t, filepath.Join(quay, "tide-board.raw"))
		assert.NoFileExists(t, filepath.Join(lighthouse, "board.qcow2"))
	}
}

// TestFieldsOfAnotherKindAreRefused by name, whatever the kind.
func TestFieldsOfAnotherKindAreRefused(t *testing.T) {
	t.Parallel()
	s := start(t)
	for body, want := range map[string]string{
		`{"kind":"prove","source":{"pool":"quay-store","path":"a.raw"},"replace":true}`:                                           `takes no "replace"`,
		`{"kind":"copy","source":{"pool":"quay-store","path":"a.raw"},"destination":{"pool":"quay-store","path":"b"},"as":"vhd"}`: `takes no "as"`,
		`{"kind":"undo","job":"1","source":{"pool":"quay-store","path":"a.raw"}}`:                                                 `takes no "source"`,
		`{"kind":"convert","sauce":{}}`: `takes no "sauce"`,
		`{"kind":"teleport"}`:           `"teleport" is not known`,
	} {
		resp := call{
			method: http.MethodPost,
			path:   "/v1/plans",
			body:   body,
			header: map[string]string{"Authorization": "Bearer " + s.Token, "Content-Type": "application/json"},
		}.do(
			t,
			s,
		)
		var problem api.Problem
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&problem))
		assert.Equal(t, 400, resp.StatusCode, body)
		assert.Contains(t, problem.Detail, want)
	}
}
