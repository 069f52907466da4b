package carry

import (
	"bytes"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const length = 3 << 20

// TestWhateverIsCarriedArrives: each carrier reads its source, makes what was planned in the staging folder, and finds it there again.
func TestWhateverIsCarriedArrives(t *testing.T) {
	content := bytes.Repeat([]byte("tide board "), length/11+1)[:length]
	side := plan.Side{Place: plan.Place{Path: "board.raw"}, Format: "raw", Layout: "thin", VirtualSize: length}
	after := plan.Side{Place: plan.Place{Path: "deck/board.qcow2"}, Format: "qcow2", Layout: "thin", VirtualSize: length}
	copied := side
	copied.Place.Path = "deck/board.raw"
	for _, c := range []struct {
		name  string
		body  plan.Disk
		dir   string
		own   []string
		guest bool
	}{
		{"image", plan.Disk{
			Request: plan.Request{Kind: plan.Convert, As: "qcow2", Source: side.Place, Destination: &after.Place}, Before: &side, After: &after,
		}, "deck", []string{"board.qcow2"}, true},
		{"files", plan.Disk{
			Request: plan.Request{Kind: plan.Copy, Source: side.Place, Destination: &copied.Place}, Before: &side, After: &copied,
			Root: "deck", Own: []string{"board.raw"},
			Copied: []plan.Copied{{From: "board.raw.bagtag", To: "board.raw.bagtag", Stays: true}, {From: "board.raw", To: "board.raw", Size: length}},
		}, "deck", []string{"board.raw"}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			from, to := &memory.Folder{}, &memory.Folder{}
			file, err := from.Create("board.raw")
			require.NoError(t, err)
			_, err = file.WriteAt(content, 0)
			require.NoError(t, err)
			x := Of(c.body, Ends{Source: from, Destination: to, Staging: "staging"})
			assert.Equal(t, c.dir, x.Dir())
			assert.Equal(t, c.guest, x.Guest())
			assert.EqualValues(t, length, x.Size())

			source, err := x.Open(t.Context())
			require.NoError(t, err)
			defer source.Close()
			assert.EqualValues(t, length, source.Size())
			w, err := x.Create(disk.Target{Folder: storage.Sub(to, "staging"), Name: "board.qcow2", Size: x.Size(), Layout: "thin"})
			require.NoError(t, err)
			read := make([]byte, length)
			_, err = source.ReadAt(read, 0)
			require.NoError(t, err)
			_, err = w.WriteAt(read, 0)
			require.NoError(t, err)
			require.NoError(t, w.Commit(t.Context()))
			assert.Equal(t, c.own, x.Own(append([]string{"board.qcow2.bagtag"}, w.Files()...)))

			made, err := x.Made(t.Context())
			require.NoError(t, err)
			defer made.Close()
			got := make([]byte, length)
			_, err = made.ReadAt(got, 0)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(content, got))
		})
	}
}
