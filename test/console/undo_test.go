package console

import (
	"path/filepath"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
)

// TestTakingBackAJob: the plan is shown before, then the job runs, and a second time says why not.
func TestTakingBackAJob(t *testing.T) {
	t.Parallel()
	s := world(t)
	moved := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "qcow2", Release: true, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.qcow2"},
	})
	testkit.Proven(t, s.Service, moved.Id)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/jobs/" + moved.Id)
	p.Click("Take back")
	p.AwaitText("Take back job 1")
	p.AwaitText("quay-store:tide-board.raw")
	p.AwaitText("no time on it is later")
	p.Click("Take it back")
	p.AwaitText("undo job 1")
	p.AwaitText("the source has its names again")
	p.AwaitText("Taken back: every file is the one that it was")
	assert.NotContains(t, testkit.Eval[string](p, `document.body.innerText`), "Take back", "what took something back is started again instead")
	back := testkit.Await(t, s.Service, "2")
	assert.True(t, back.Ended)
	assert.FileExists(t, filepath.Join(poolOf(t, s, "quay-store"), "tide-board.raw"))

	p.Open(s.Address + "/jobs/1/undo")
	p.AwaitText("The image is not what the job made any more")
	assert.True(
		t,
		testkit.Eval[bool](p, `[...document.querySelectorAll("button")].find(b => b.textContent.includes("Take it back")).disabled`),
	)
}

// poolOf is the folder of a pool.
func poolOf(t *testing.T, s *testkit.Service, name string) string {
	t.Helper()
	pool, err := s.Service.Pool(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return pool.Folder
}
