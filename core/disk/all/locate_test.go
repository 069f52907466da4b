package all

import (
	"io"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReadBack: before Commit the content can be read from where it lies, and the finished image looks for it in the same places. A
// reader that looks elsewhere is told.
func TestReadBack(t *testing.T) {
	c := scattered()
	raw := rows()[0]
	src := reopen(t, raw, create(t, raw, c))
	want := fingerprintOf(t, src)
	located := 0
	eachLayout(t, func(t *testing.T, l layout) {
		if !l.fits(c.size) {
			t.Skip("too large for this layout")
		}
		folder := fresh(t)
		target := target(t, l, folder, c.size)
		w, err := l.format.Create(target)
		require.NoError(t, err)
		if _, encodes := w.(disk.Encoder); encodes {
			require.NoError(t, w.Close())
			return
		}
		places, ok := w.(disk.Locator)
		require.True(t, ok)
		located++
		var meter transfer.Meter
		_, err = transfer.Transfer{Source: src, Destination: w, Base: target.Base, Meter: &meter}.Run(t.Context())
		require.NoError(t, err)
		require.NoError(t, w.Checkpoint())
		back := disk.NewReadBack(places, target)
		assert.Equal(t, want, fingerprintOf(t, back))
		require.NoError(t, back.Close())
		require.NoError(t, w.Commit(t.Context()))
		r := reopen(t, l, folder)
		require.NoError(t, disk.SamePlaces(t.Context(), places, r.(disk.Locator), c.size))
		require.Error(t, disk.SamePlaces(t.Context(), places, shifted{r.(disk.Locator)}, c.size))
		require.Error(t, disk.SamePlaces(t.Context(), places, renamed{r.(disk.Locator)}, c.size))
		require.NoError(t, w.Close())
	})
	assert.Greater(t, located, 20)
	_, err := disk.NewReadBack(src.(disk.Locator), disk.Target{Folder: fresh(t), Size: c.size}).ReadAt(make([]byte, 10), c.size)
	require.ErrorIs(t, err, io.EOF)
}

// shifted looks a sector behind where it is.
type shifted struct{ disk.Locator }

func (s shifted) Locate(off int64) (disk.Place, error) {
	p, err := s.Locator.Locate(off)
	if p.Kind == disk.Data {
		p.At += 512
	}
	return p, err
}

// renamed looks in another file.
type renamed struct{ disk.Locator }

func (r renamed) Locate(off int64) (disk.Place, error) {
	p, err := r.Locator.Locate(off)
	p.File += "x"
	return p, err
}
