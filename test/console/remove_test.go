package console

import (
	"path/filepath"
	"testing"

	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
)

// TestRemovingADisk: the plan is shown before, the disk goes to the holding folder, and is taken back from the job.
func TestRemovingADisk(t *testing.T) {
	t.Parallel()
	s := world(t)
	name := filepath.Join(poolOf(t, s, "quay-store"), "tide-board.raw")
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/disk?pool=quay-store&path=tide-board.raw")
	p.AwaitText("Takes of the storage")
	p.Click("Remove")
	p.AwaitText("Remove quay-store:tide-board.raw")
	p.AwaitText("The source opens as raw")
	p.Click("Remove it")
	p.AwaitText("it is held until")
	p.AwaitText("Removed: every file that is held is the one that it was")
	assert.NoFileExists(t, name)
	p.Click("Take back")
	p.AwaitText("Take back job 1")
	p.Click("Take it back")
	p.AwaitText("the source has its names again")
	assert.FileExists(t, name)
}
