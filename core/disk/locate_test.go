package disk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// runs is where a disk lies in runs of one length, all in one file from an offset on. It counts how often it is asked.
type runs struct {
	length, at int64
	asked      int
}

func (r *runs) Locate(off int64) (Place, error) {
	r.asked++
	return Place{Extent{Off: off, Len: r.length - off%r.length}, "disk", r.at + off}, nil
}

// TestSamePlaces: runs are told in pieces of any length, and a long one is asked for once.
func TestSamePlaces(t *testing.T) {
	short, long := &runs{length: 64 << 10, at: 4096}, &runs{length: 1 << 30, at: 4096}
	require.NoError(t, SamePlaces(t.Context(), short, long, 1<<30))
	assert.Equal(t, 1<<14, short.asked)
	assert.Equal(t, 1, long.asked)
	require.NoError(t, SamePlaces(t.Context(), long, &runs{length: 100 << 10, at: 4096}, 1<<30))
	require.ErrorIs(t, SamePlaces(t.Context(), long, &runs{length: 64 << 10, at: 0}, 1<<30), errElsewhere)
}
