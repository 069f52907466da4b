// Package console tests the console in a headless browser.
package console

import (
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"bagaglio/internal/testkit"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// world is a service with a disk of tide-board in quay-store, and two empty pools.
func world(t *testing.T) *testkit.Service {
	t.Helper()
	root, err := testkit.Root()
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(root, "web/dist/app/index.html"), "the console is not built: make console")
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", "127.0.0.1:0")
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	b := make([]byte, 5<<20)
	_, _ = rand.Read(b[1<<20:]) // never fails
	require.NoError(t, os.WriteFile(filepath.Join(quay, "tide-board.raw"), b, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(quay, "wreck.vhd"), []byte("nothing"), 0o600))
	return s
}

// TestComposeRunAndReadTheReceipt is the main job, as a technician does it.
func TestComposeRunAndReadTheReceipt(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Address + "/jobs")
	p.AwaitText("The console is locked")
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.AwaitText("no marks of vhd")
	for _, word := range []string{"virtual", "allocated", "file"} {
		p.AwaitText(word)
	}
	p.Click("Convert tide-board.raw")
	p.AwaitText("Choose a source and a destination")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.Fill("Name", "tide-board.vhd")
	// A check stands in the way; its remedy is a button that changes the request.
	p.AwaitText("claims vhd")
	assert.True(t, testkit.Eval[bool](p, `[...document.querySelectorAll("button")].at(-1).disabled`))
	p.Click("Convert to vhd")
	p.AwaitText("vhd, dynamic")
	p.Fill("Layout", "fixed")
	p.AwaitText("vhd, fixed")
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	p.AwaitText("lighthouse-store:tide-board.vhd")
	receipt, err := s.Receipt(t.Context(), "1")
	require.NoError(t, err)
	p.AwaitText(receipt.Source.Fingerprint)
	p.Click("Start again")
	p.AwaitText("exists already")
	p.Click("Jobs")
	p.AwaitText("convert quay-store:tide-board.raw")
	p.Click("Places")
	p.Click("tide-board.vhd")
	p.AwaitText("No partition table or filesystem that is known")
	assert.Empty(
		t,
		testkit.Eval[[]string](p, `performance.getEntriesByType("resource").map(e => e.name).filter(n => !n.startsWith(location.origin))`),
		"nothing is loaded from elsewhere",
	)

	p.Click("Leave the console")
	p.AwaitText("The console is locked")
	p.Open(s.Link)
	p.AwaitText("This link has been used")
}

// TestChoicesOfALayout: what a layout takes can be chosen, goes again with the layout, and is in the image.
func TestChoicesOfALayout(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.Click("Convert tide-board.raw")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.Fill("Name", "tide-board.vmdk")
	p.Fill("Format", "vmdk")
	p.Fill("Layout", "split-sparse")
	p.Await(`new URLSearchParams(location.search).get("request")?.includes("split-sparse")`)
	p.Click("More choices")
	p.Fill("Adapter", "scsi")
	p.Fill("Piece size in MiB", "2")
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	receipt, err := s.Receipt(t.Context(), "1")
	require.NoError(t, err)
	report, err := s.Look(t.Context(), receipt.Destination.Place)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{"tide-board.vmdk", "tide-board-s001.vmdk", "tide-board-s002.vmdk", "tide-board-s003.vmdk"},
		report.Files,
		"what opens it first",
	)

	// An overlay on what was made: the base is a disk of that pool, and the piece size is none of its choices.
	p.Click("Places")
	p.Click("Convert tide-board.raw")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.Fill("Name", "tide-board.qcow2")
	p.Fill("Format", "qcow2")
	p.Fill("Layout", "overlay")
	p.Fill("Base", "tide-board.vmdk")
	p.AwaitText("holds only what differs from tide-board.vmdk")
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	p.Click("Places")
	p.Click("tide-board.qcow2")
	p.AwaitText("Stands on")
	p.AwaitText("tide-board.vmdk")
}

// TestProgressAndCancel: a job that runs tells how far it is, and can be stopped.
func TestProgressAndCancel(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := s.Pool("cellar")
	f, err := os.Create(filepath.Join(quay, "cargo-ledger.raw"))
	require.NoError(t, err)
	_, err = io.CopyN(f, rand.Reader, 3<<30)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("cargo-ledger.raw")
	p.Click("Convert cargo-ledger.raw")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.Fill("Name", "cargo-ledger.qcow2")
	p.Click("Start")
	p.AwaitText("On average")
	p.AwaitText("of 3 GiB")
	p.AwaitText("Time left")
	p.Click("Cancel")
	p.AwaitText("cancelled on request")
	p.AwaitText("Start again")
}

// TestKeyboard: every control can be reached and used without a mouse, in the order in which it is read.
func TestKeyboard(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/places")
	p.AwaitText("tide-board.raw")
	focused := `(document.activeElement.ariaLabel || document.activeElement.textContent).trim()`
	var reached []string
	for len(reached) < 40 && !slices.Contains(reached, "Convert tide-board.raw") {
		p.Press(kb.Tab)
		reached = append(reached, testkit.Eval[string](p, focused))
	}
	for _, name := range []string{"Now", "Places", "Machines", "Compose", "Jobs", "Dark colours", "Leave the console", "Look at quay-store again", "tide-board.raw", "Convert tide-board.raw"} {
		assert.Contains(t, reached, name)
	}
	assert.Equal(t, "Now", reached[0])
	assert.True(t, testkit.Eval[bool](p, `getComputedStyle(document.activeElement).outlineStyle !== "none"`), "where the focus is can be seen")
	for testkit.Eval[string](p, focused) != "Jobs" {
		p.Press(kb.Tab)
	}
	p.Press(kb.Enter)
	p.AwaitText("No job has been started yet")
}

// TestNarrowWindow: nothing runs out of the side, by day and by night.
func TestNarrowWindow(t *testing.T) {
	t.Parallel()
	s := world(t)
	for _, err := range s.Follow(t.Context(), begin(t, s, "a.qcow2", 0, false)) {
		require.NoError(t, err)
	}
	p := testkit.Browse(t, 390, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	for _, path := range []string{"/", "/compose?pool=quay-store&path=tide-board.raw", "/disk?pool=quay-store&path=tide-board.raw", "/jobs", "/jobs/1", "/settings", "/pool?name=quay-store", "/hosts"} {
		p.Open(s.Address + path)
		p.Await(`document.querySelector("h1") && document.fonts.status === "loaded"`)
		assert.LessOrEqual(t, testkit.Eval[int](p, `document.documentElement.scrollWidth`), 390, path)
	}
	p.Click("Dark colours")
	p.Await(`document.documentElement.dataset.theme === "night-watch"`)
	p.Open(s.Address + "/")
	p.Await(`document.documentElement.dataset.theme === "night-watch"`)
}

// TestADiskIsTypedInto: of a pool of many disks each one can be chosen by a part of its name, and one that was chosen of late is offered first.
func TestADiskIsTypedInto(t *testing.T) {
	t.Parallel()
	s := world(t)
	dir := s.Pool("archive")
	for i := range 1200 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("day-%04d.raw", i)), make([]byte, 1<<20), 0o600))
	}
	_, err := s.Disks(t.Context(), "archive")
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Compose")
	p.Fill("Pool", "archive")
	p.Await(`document.querySelectorAll("datalist option").length === 50`)
	p.Fill("Disk", "1150")
	p.Await(`[...document.querySelectorAll("datalist option")].map((o) => o.value).join() === "day-1150.raw"`)
	p.Fill("Disk", "day-1150.raw")
	p.Fill("Pool of the new image", "lighthouse-store")
	p.AwaitText("lighthouse-store:day-1150.qcow2")
	p.Click("Compose")
	p.Fill("Pool", "archive")
	p.Await(`document.querySelector("datalist option")?.value === "day-1150.raw"`)
}
