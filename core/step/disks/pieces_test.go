package disks

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPiecesAreJoined: by standard tools with the checksums beside them, and by us with the tag, which names what is damaged or missing.
func TestPiecesAreJoined(t *testing.T) {
	w := newWorld(t)
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: "gate-kiosk.raw"},
		Destination: &plan.Place{Path: "seabag/gate-kiosk.raw"},
		As:          "raw",
		Layout:      "pieces",
		Options:     disk.Options{PieceSize: 7 << 20},
	}
	_, err := w.run(t.Context(), w.plan(r), nil)
	require.NoError(t, err)
	dir := filepath.Join(w.to, "seabag")
	shell := exec.Command(
		"sh",
		"-c",
		"sha256sum --quiet -c gate-kiosk.raw.SHA256SUMS && cat gate-kiosk.raw.[0-9]* | cmp - "+filepath.Join(w.from, "gate-kiosk.raw"),
	)
	shell.Dir = dir
	out, err := shell.CombinedOutput()
	require.NoError(t, err, "%s", out)

	pieces := w.folder(dir)
	join := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: "gate-kiosk.raw.001"},
		Destination: &plan.Place{Path: "joined.raw"},
		As:          "raw",
		Tag:         plan.TagBeside,
	}
	try := func() (receipt.Receipt, error) {
		w.ends.Source = pieces
		p := w.plan(join)
		return w.run(t.Context(), p, nil)
	}
	done, err := try()
	require.NoError(t, err)
	require.NotNil(t, done.Earlier)
	assert.Empty(t, done.Earlier.Differences)
	joined, err := os.ReadFile(filepath.Join(w.to, "joined.raw"))
	require.NoError(t, err)
	assert.Equal(t, w.source, joined)
	require.NoError(t, os.Remove(filepath.Join(w.to, "joined.raw")))

	second := filepath.Join(dir, "gate-kiosk.raw.002")
	b, err := os.ReadFile(second)
	require.NoError(t, err)
	b[1000] ^= 1
	require.NoError(t, os.WriteFile(second, b, 0o600))
	_, err = try()
	require.ErrorIs(t, err, step.ErrNotProven)
	require.ErrorContains(t, err, "what differs lies in gate-kiosk.raw.002.")
	assert.NoFileExists(t, filepath.Join(w.to, "joined.raw"))
	b[1000] ^= 1
	require.NoError(t, os.WriteFile(second, b, 0o600))
	require.NoError(t, os.Rename(filepath.Join(dir, "gate-kiosk.raw.004"), filepath.Join(dir, "elsewhere")))
	_, err = try()
	require.ErrorIs(t, err, step.ErrBlocked, "before a byte is written")
	require.ErrorContains(t, err, "gate-kiosk.raw.004 is missing")
}

// TestDisksAreMadeAnewInTheirPlace, thick to thin and back, and what they were is held, all files of it.
func TestDisksAreMadeAnewInTheirPlace(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ as, name, thick, thin string }{
		{"raw", "tide.raw", "thick", "thin"}, {"qcow2", "tide.qcow2", "thick", "thin"}, {"vhd", "tide.vhd", "fixed", "dynamic"}, {"vhdx", "tide.vhdx", "fixed", "dynamic"},
		{"vdi", "tide.vdi", "fixed", "dynamic"}, {"vmdk", "tide.vmdk", "flat", "sparse"},
	} {
		t.Run(c.as, func(t *testing.T) {
			w := newWorld(t)
			r := plan.Request{
				Kind:        plan.Convert,
				Source:      plan.Place{Path: "gate-kiosk.raw"},
				Destination: &plan.Place{Path: c.name},
				As:          c.as,
				Layout:      c.thick,
			}
			first, err := w.run(t.Context(), w.plan(r), nil)
			require.NoError(t, err)
			w.ends.Source = w.ends.Destination
			for i, layout := range []string{c.thin, c.thick} {
				r.Source.Path, r.Layout, r.Replace = c.name, layout, true
				p := w.plan(r)
				require.False(t, p.Blocked(), "%+v", p.Checks)
				done, err := solo{ID: "anew-" + layout, Ends: w.ends, Plan: p, Hold: HoldFor, By: "test"}.Run(t.Context())
				require.NoError(t, err)
				assert.Equal(t, first.Source.Fingerprint, done.Destination.Fingerprint)
				held, err := ListHeld(w.ends.Destination)
				require.NoError(t, err)
				require.Len(t, held, i+1)
				made, err := disk.Open(t.Context(), w.ends.Destination, c.name, c.as)
				require.NoError(t, err)
				assert.Equal(t, layout, made.Describe().Layout)
				require.NoError(t, made.Close())
			}
			held, err := ListHeld(w.ends.Destination)
			require.NoError(t, err)
			_, err = Restore(w.ends.Destination, held[0].ID, true, HoldFor)
			require.NoError(t, err)
			made, err := disk.Open(t.Context(), w.ends.Destination, c.name, c.as)
			require.NoError(t, err)
			content := make([]byte, diskSize)
			_, err = made.ReadAt(content, 0)
			require.NoError(t, err)
			assert.Equal(t, w.source, content)
			require.NoError(t, made.Close())
		})
	}
}

// TestCompactingForNothing leaves a disk as it is when no room would be won, and says how much is won otherwise.
func TestCompactingForNothing(t *testing.T) {
	for _, zeros := range []bool{true, false} {
		w := newWorld(t)
		w.ends.Source = w.ends.Destination
		content := bytes.Repeat([]byte("timetable "), 400_000)
		if zeros {
			content = append(content, make([]byte, 4<<20)...) // written, and so stored
		}
		content = append(content, make([]byte, (512-len(content)%512)%512)...)
		file := filepath.Join(w.to, "ticketing.raw")
		require.NoError(t, os.WriteFile(file, content, 0o600))
		before, err := os.Stat(file)
		require.NoError(t, err)
		place := plan.Place{Path: "ticketing.raw"}
		r, err := w.run(
			t.Context(),
			w.plan(plan.Request{Kind: plan.Convert, Source: place, Destination: &place, As: "raw", Replace: true, IfSmaller: true}),
			nil,
		)
		require.NoError(t, err)
		after, err := os.Stat(file)
		require.NoError(t, err)
		held, err := ListHeld(w.ends.Source)
		require.NoError(t, err)
		if zeros {
			assert.Equal(t, receipt.Proven, r.Outcome)
			assert.Contains(t, r.Remarks[len(r.Remarks)-2], "of room are won")
			assert.Len(t, held, 1)
			continue
		}
		assert.Equal(t, receipt.Unproven, r.Outcome)
		assert.Contains(t, r.Reason, "no room would be won")
		assert.True(t, os.SameFile(before, after), "the disk stays as it is")
		assert.Empty(t, held)
	}
}
