package disks

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func request(to, as, layout string, o disk.Options) plan.Request {
	r := toQcow2()
	r.Destination, r.As, r.Layout, r.Options = &plan.Place{Path: to}, as, layout, o
	return r
}

// done runs a request to its proven end.
func (w *world) done(r plan.Request) receipt.Receipt {
	w.t.Helper()
	p := w.plan(r)
	require.False(w.t, p.Blocked(), "%+v", p.Checks)
	done, err := w.run(w.t.Context(), p, nil)
	require.NoError(w.t, err)
	require.Equal(w.t, receipt.Proven, done.Outcome)
	require.Equal(w.t, done.Source.Fingerprint, done.Destination.Fingerprint)
	return done
}

// TestOverlayHoldsOnlyTheDifference, names its base as seen from where it lies, and is proven as what a guest will see.
func TestOverlayHoldsOnlyTheDifference(t *testing.T) {
	for _, c := range []struct{ as, base, layout string }{
		{"qcow2", "thin", "overlay"}, {"vmdk", "sparse", "delta"}, {"vhd", "dynamic", "differencing"}, {"vhdx", "dynamic", "differencing"},
	} {
		t.Run(c.as, func(t *testing.T) {
			w := newWorld(t)
			base := "bases/gate-kiosk." + c.as
			w.done(request(base, c.as, c.base, disk.Options{}))
			before, err := os.ReadFile(filepath.Join(w.to, base))
			require.NoError(t, err)
			// The kiosk goes on, and then its disk is taken again.
			require.NoError(t, os.Chmod(filepath.Join(w.from, "gate-kiosk.raw"), 0o644))
			copy(w.source[5<<20:], bytes.Repeat([]byte("ferry "), 20_000))
			clear(w.source[8<<20 : 10<<20])
			require.NoError(t, os.WriteFile(filepath.Join(w.from, "gate-kiosk.raw"), w.source, 0o600))
			r := request("monday/gate-kiosk."+c.as, c.as, c.layout, disk.Options{})
			r.Base = base
			done := w.done(r)
			assert.Less(t, done.Destination.FileSize, int64(9<<20), "less than the disk's 11 MiB")
			assert.LessOrEqual(t, done.BytesWritten, int64(3<<20))
			after, err := os.ReadFile(filepath.Join(w.to, base))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(before, after), "the base is only read")
			d, err := disk.Open(t.Context(), w.ends.Destination, r.Destination.Path, "")
			require.NoError(t, err)
			defer d.Close()
			assert.Equal(t, []string{base}, d.Describe().Chain)
			assert.Contains(t, d.Describe().Base, "../bases/gate-kiosk")

			r.Destination, r.Replace = &plan.Place{Path: base}, true
			assert.True(t, w.plan(r).Blocked(), "an image does not take the place of its base")
		})
	}
}

// TestPiecesAreReplacedWholeOrNotAtAll: pieces of the old disk that are left over would become a part of the new one.
func TestPiecesAreReplacedWholeOrNotAtAll(t *testing.T) {
	w := newWorld(t)
	small := request("gate-kiosk.raw", "raw", "pieces", disk.Options{PieceSize: 10 << 20})
	done := w.done(small)
	assert.Equal(t, "gate-kiosk.raw.001", done.Destination.Place.Path, "what opens the disk")
	w.untouched("gate-kiosk.raw.001", "gate-kiosk.raw.002", "gate-kiosk.raw.003")

	p := w.plan(small)
	require.True(t, p.Blocked())
	assert.Contains(t, string(checks(p, "destination")[0].Remedies[0].Change), "gate-kiosk-2.raw")
	large := request("gate-kiosk.raw", "raw", "pieces", disk.Options{PieceSize: 20 << 20})
	large.Replace = true
	require.NoError(t, os.Remove(filepath.Join(w.to, "gate-kiosk.raw.001")))
	require.NoError(t, os.Remove(filepath.Join(w.to, "gate-kiosk.raw.002")))
	p = w.plan(large)
	require.True(t, p.Blocked())
	assert.Contains(t, checks(p, "destination")[0].Message, "would become a part of the new disk (gate-kiosk.raw.003)")
	small.Replace = true
	w.done(small)
	w.untouched("gate-kiosk.raw.001", "gate-kiosk.raw.002", "gate-kiosk.raw.003")
}

func checks(p plan.Plan, name string) (out []plan.Check) {
	for _, c := range p.Checks {
		if c.Name == name {
			out = append(out, c)
		}
	}
	return out
}

// TestBundleIsPlacedWithItsFolder, and what is in the way is seen before.
func TestBundleIsPlacedWithItsFolder(t *testing.T) {
	w := newWorld(t)
	bundle := request("gate-kiosk.hdd", "hdd", "plain", disk.Options{})
	done := w.done(bundle)
	assert.Equal(t, "gate-kiosk.hdd", done.Destination.Place.Path)
	w.untouched("gate-kiosk.hdd")
	assert.True(t, w.plan(bundle).Blocked())
	assert.True(t, w.plan(request("gate-kiosk.hdd", "hdd", "expanding", disk.Options{})).Blocked(), "a file under the name of a folder")
}

// TestSameSeedSameBytes, whenever the job runs; another seed gives another identifier.
func TestSameSeedSameBytes(t *testing.T) {
	w := newWorld(t)
	read := func(name, seed string) []byte {
		r := request(name, "vhd", "dynamic", disk.Options{})
		r.Seed = seed
		w.done(r)
		b, err := os.ReadFile(filepath.Join(w.to, name))
		require.NoError(t, err)
		return b
	}
	first := read("a.vhd", "quay")
	assert.True(t, bytes.Equal(first, read("b.vhd", "quay")))
	assert.False(t, bytes.Equal(first, read("c.vhd", "lighthouse")))
	assert.False(t, bytes.Equal(read("d.vhd", ""), read("e.vhd", "")))
}

// TestSizeIsRoundedAsAsked, up, and the rest reads as zeros.
func TestSizeIsRoundedAsAsked(t *testing.T) {
	w := newWorld(t)
	r := request("gate-kiosk.vhd", "vhd", "fixed", disk.Options{})
	r.RoundTo = 5 << 20
	p := w.plan(r)
	assert.EqualValues(t, 25<<20, p.After[0].VirtualSize)
	done, err := w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome)
	assert.EqualValues(t, 25<<20, done.Destination.VirtualSize)
}
