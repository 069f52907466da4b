package console

import (
	"path/filepath"
	"testing"

	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADeviceInTheConsole: a disk is drawn with its partitions, one is left out by a click, and the image of the rest is made; a file of it is found in
// the tree.
func TestADeviceInTheConsole(t *testing.T) {
	t.Parallel()
	l := loops.New(
		t,
		100<<20,
		512,
		"label: gpt\nstart=1MiB, size=40MiB, type=L, name=\"system\"\nstart=45MiB, size=40MiB, type=L, name=\"data\"\n",
	)
	for part, name := range map[int]string{1: "system", 2: "data"} {
		l.Run("mkfs.ext4", "-q", "-L", name, l.Part(part))
	}
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Open(s.Address + "/devices")
	p.AwaitText("local:" + l.Path)
	p.AwaitText("2 · data · Linux · ext4")
	p.Open(s.Address + "/devices/capture?device=local:" + l.Path)
	p.AwaitText("Partitions that travel")
	p.Fill("Pool of the image", "quay-store")
	p.AwaitText("quay-store:" + l.Name() + ".qcow2")
	p.Fill("Format", "vhd")
	p.AwaitText("quay-store:" + l.Name() + ".vhd")
	require.True(t, testkit.Eval[bool](p, `(() => { document.querySelectorAll("fieldset input[type=checkbox]")[1].click(); return true; })()`))
	p.AwaitText("Partition 2 (data, Linux, ext4) is left out, and reads as zeros")
	p.Await(`document.querySelector("svg[role=img]").ariaLabel.includes("2 · data · Linux · ext4, 40 MiB") &&
		document.querySelector("svg[role=img]").ariaLabel.includes("left out")`)
	p.Fill("Size of the new disk", "3 X")
	p.AwaitText("Write a length such as 3 GiB")
	p.Fill("Size of the new disk", "40 MiB")
	p.AwaitText("The new disk: 40 MiB")
	p.AwaitText("made to fit on a copy")
	p.Click("Start")
	p.AwaitText("from 100 MiB to 40 MiB")
	p.AwaitText("are the same before and after")
	p.AwaitText("data, Linux, ext4: left out")
	p.AwaitText("on the new image: clean")

	p.Open(s.Address + "/disk?pool=quay-store&path=" + l.Name() + ".vhd")
	p.Click("What starts from it")
	p.AwaitText("No firmware finds something to start on it.")
	p.Click("Files of partition 1")
	p.AwaitText("lost+found")
	image := plan.Place{Pool: "quay-store", Path: filepath.Base(l.Path) + ".vhd"}
	all, err := s.Inside(t.Context(), image, inspect.Spot{Partition: 1, Path: "."})
	require.NoError(t, err)
	assert.Len(t, all, 1)
}
