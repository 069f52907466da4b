package transfer

import (
	"math/rand/v2"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOnlyWhatChangedIsCarriedAgain: with the ranges that may differ, just their leaves are read, and the destination and the leaves are
// those of the disk as it is now.
func TestOnlyWhatChangedIsCarriedAgain(t *testing.T) {
	const size = 40<<20 + 4096
	seeds := uint64(12)
	if testing.Short() { // with the race detector
		seeds = 2
	}
	for seed := range seeds {
		src := random(seed, size)
		dst := &target{content: make([]byte, size)}
		first, err := Transfer{Source: src, Destination: dst, Meter: &Meter{}}.Run(t.Context())
		require.NoError(t, err)

		r := rand.New(rand.NewPCG(seed, 2))
		only, leaves := []fingerprint.Range{}, map[int64]bool{}
		for off := r.Int64N(6 << 20); off < size; off += r.Int64N(9<<20) + 1 {
			n := min(r.Int64N(3<<20)+1, size-off)
			only = append(only, fingerprint.Range{Offset: off, Length: n})
			for at := off; at < off+n; at += 1 + r.Int64N(5000) {
				if e, err := src.Extent(at); err == nil && e.Kind == disk.Data { // a guest writes to what is stored
					src.content[at] ^= 1
				}
			}
			for leaf := off / fingerprint.LeafSize; leaf <= (off+n-1)/fingerprint.LeafSize; leaf++ {
				leaves[leaf] = true
			}
			off += n
		}
		src.reads.Clear()
		var meter Meter
		again, err := Transfer{Source: src, Destination: dst, Meter: &meter, Known: first.Leaves, Only: only}.Run(t.Context())
		require.NoError(t, err, "seed %d", seed)
		assert.LessOrEqual(t, meter.Read.Load(), int64(len(leaves))*fingerprint.LeafSize, "seed %d", seed)
		require.Equal(t, src.content, dst.content, "seed %d", seed)
		src.reads.Clear()
		whole, err := Transfer{Source: src, Meter: &Meter{}}.Run(t.Context())
		require.NoError(t, err)
		want, err := whole.Leaves.Sum()
		require.NoError(t, err)
		got, err := again.Leaves.Sum()
		require.NoError(t, err)
		assert.Equal(t, want, got, "seed %d", seed)
	}
	src := random(1, size)
	first, err := Transfer{Source: src, Meter: &Meter{}}.Run(t.Context())
	require.NoError(t, err)
	src.reads.Clear()
	var meter Meter
	none, err := Transfer{
		Source:      src,
		Destination: &target{},
		Meter:       &meter,
		Known:       first.Leaves,
		Only:        []fingerprint.Range{},
	}.Run(
		t.Context(),
	)
	require.NoError(t, err)
	assert.Zero(t, meter.Read.Load(), "nothing may differ")
	assert.Equal(t, first.Leaves.Total(), none.Leaves.Next())
}
