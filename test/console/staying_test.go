package console

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMachineThatStays: a snapshot is taken, gone back to with the present state kept by a remedy, and dropped; a disk comes and changes its machine; and a
// machine is removed, all from its page.
func TestAMachineThatStays(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := world(t)
	quay := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	quay.Ticketing(t, make([]byte, 1<<20))
	dir := filepath.Join(quay.Folder, "tide-board")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	for _, name := range []string{"tide-board.raw", "tides.raw"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), make([]byte, 1<<20), 0o600))
	}
	_, err := quay.Define(
		[]byte(standins.Definition("tide-board", "1c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", filepath.Join(dir, "tide-board.raw"), "raw")),
	)
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	at := func(name string) { p.Open(s.Address + "/machines/quay/" + name) }
	run := func(said string) {
		p.AwaitText("1 step")
		p.Click("Start")
		p.AwaitText(said)
	}
	p.Open(s.Link)
	p.AwaitText("Places")
	at("ticketing")
	p.AwaitText("Its host keeps no state of it")
	p.Click("Take one")
	p.Fill("Name", "monday")
	p.AwaitText("the snapshot has its disks")
	p.Click("Start")
	p.AwaitText("quay lists the snapshot monday")

	at("ticketing")
	p.AwaitText("the machine goes on from it")
	p.Click("Go back")
	p.AwaitText("is lost, and cannot be taken back")
	p.Click("Keep the present state as a snapshot first")
	p.AwaitText("2 steps")
	p.Click("Start")
	p.AwaitText("says that it goes on from monday")
	at("ticketing")
	p.AwaitText("before-going-back")
	p.Click("Drop")
	run("does not list")

	at("tide-board")
	p.Click("Attach one")
	p.Fill("Pool", "harbour")
	p.Await(`[...document.querySelectorAll("option")].some((o) => o.value === "tide-board/tides.raw")`)
	p.Fill("Disk", "tide-board/tides.raw")
	run("has the disk as")
	at("tide-board")
	p.AwaitText("Hand hdb over")
	p.Click("Hand hdb over")
	p.Fill("Machine that gets it", "quay:ticketing")
	p.AwaitText("4 steps")
	p.Click("Start")
	p.AwaitText("quay:ticketing has the disk as")
	assert.FileExists(t, filepath.Join(quay.Folder, "tides.raw"), "in the folder of the one that has it now")

	at("tide-board")
	p.Click("Pack")
	p.Fill("Pool", "harbour")
	p.AwaitText("4 steps")
	p.Click("Start")
	p.AwaitText("the SHA-256 of each file there with the manifest")
	assert.FileExists(t, filepath.Join(quay.Folder, "tide-board.ova"))

	at("tide-board")
	p.Click("Remove")
	p.AwaitText("3 steps")
	p.Click("Start")
	p.AwaitText("quay does not know it any more; its disks are held")
	assert.NoFileExists(t, filepath.Join(dir, "tide-board.raw"))
}
