package inspect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// deck is a group of volumes as LVM writes it.
const deck = `deck {
id = "a-b"
seqno = 3
format = "lvm2" # informational
extent_size = 8
physical_volumes {
pv0 {
id = "ow-n"
device = "/dev/sd\"a" # hint only
pe_start = 2048
pe_count = 100
}
}
logical_volumes {
root {
id = "c"
status = ["READ", "WRITE", "VISIBLE"]
segment_count = 2
segment1 {
start_extent = 0
extent_count = 10
type = "striped"
stripe_count = 1
stripes = [
"pv0", 5
]
}
segment2 {
start_extent = 10
extent_count = 4
type = "striped"
stripe_size = 4
stripes = [ "pv0", 20, "pv0", 30 ]
}
}
pool_tdata {
status = ["READ", "WRITE"]
segment_count = 1
segment1 {
start_extent = 0
extent_count = 3
type = "striped"
stripes = ["pv0", 50]
}
}
far {
segment_count = 1
segment1 {
start_extent = 0
extent_count = 2
type = "striped"
stripes = ["pv0", 40, "pv1", 0]
}
}
}
}
contents = "Text Format Volume Group"
version = 1
`

func groupOf(text string) (*lvm, error) {
	s, err := (&lvmText{text}).readSection(0)
	if err != nil {
		return nil, err
	}
	return s.of("deck").group("deck", "own", 10<<20)
}

// TestTheTextOfLVM: volumes in pieces and stripes are put together; one that lies on another disk too is not, nor is one that is a part of something
// else, as the data of a pool, in which several lie; and what they have here is not free.
func TestTheTextOfLVM(t *testing.T) {
	l, err := groupOf(deck)
	require.NoError(t, err)
	const extent, start = 4096, 1 << 20
	require.Len(t, l.volumes, 1)
	v := l.volumes[0]
	assert.Equal(t, "deck/root", v.Name)
	assert.Equal(t, int64(14*extent), v.Size)
	assert.Equal(t, Piece{Len: 10 * extent, At: start + 5*extent}, v.pieces[0])
	assert.Equal(t, Piece{Off: 10 * extent, Len: 2048, At: start + 20*extent}, v.pieces[1])
	assert.Equal(t, Piece{Off: 10*extent + 2048, Len: 2048, At: start + 30*extent}, v.pieces[2])
	assert.Equal(t, Piece{Off: 10*extent + 4096, Len: 2048, At: start + 20*extent + 2048}, v.pieces[3])
	var free int64
	for _, r := range l.free(10 << 20) {
		free += r.Length
	}
	assert.Equal(t, int64(100-10-4-1-3)*extent, free, "also what is a part of a pool is not free")
	for from, to := range map[string]string{
		"extent_size = 8": "extent_size = 0", "pe_count = 100": "pe_count = 100000", `"pv0", 5`: `"pv0", 95`, "segment2 {": "segment9 {",
		"seqno = 3": "seqno", "segment_count = 2": "segment_count = 999999",
	} {
		_, err := groupOf(strings.Replace(deck, from, to, 1))
		require.Error(t, err, to)
	}
}

// FuzzLVM: whatever the text says, it is read or refused.
func FuzzLVM(f *testing.F) {
	f.Add(deck)
	f.Add("deck { x = [ [ ] }")
	f.Add(strings.Repeat("a {", 100))
	f.Fuzz(func(_ *testing.T, text string) {
		l, err := groupOf(text)
		if err == nil {
			_ = l.free(10 << 20)
		}
	})
}
