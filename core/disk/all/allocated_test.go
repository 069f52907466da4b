package all

import (
	"testing"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAllocatedMeansOneThing for every layout: bytes of guest content that are stored and not known to be zeros. A thick image takes more
// of the storage, and has no more allocated.
func TestAllocatedMeansOneThing(t *testing.T) {
	c := scattered()
	for _, l := range rows() {
		t.Run(l.String(), func(t *testing.T) {
			got, _, err := disk.Allocated(t.Context(), reopen(t, l, create(t, l, c)))
			require.NoError(t, err)
			var least int64
			for _, p := range c.pieces {
				least = max(least, int64(len(p.data)))
			}
			assert.Greater(t, got, least)
			assert.LessOrEqual(t, got, int64(34<<20), "there is nothing behind 33 MiB of %d", c.size)
		})
	}
}
