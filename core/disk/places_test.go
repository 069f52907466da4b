package disk

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPlaces: in whatever order blocks come, each is found where it was put, and marks of zeros stay with theirs.
func TestPlaces(t *testing.T) {
	const blocks = 5*run + 100
	inOrder := make([]int64, blocks)
	for i := range inOrder {
		inOrder[i] = int64(i)
	}
	gaps := inOrder[:0:0]
	for i := int64(0); i < blocks; i += 1 + i%7 {
		gaps = append(gaps, i)
	}
	random := append([]int64(nil), inOrder...)
	r := rand.New(rand.NewPCG(3, 4))
	r.Shuffle(len(random), func(i, k int) { random[i], random[k] = random[k], random[i] })
	nearly := append([]int64(nil), inOrder...)
	nearly[run+5], nearly[run+6] = nearly[run+6], nearly[run+5]
	for name, order := range map[string][]int64{"in order": inOrder, "with gaps": gaps, "at random": random[:3000], "two swapped": nearly} {
		p, model := places{}, map[int64]int64{}
		for index, number := range order {
			p.add(number, int64(index))
			model[number] = int64(index)
		}
		p.setZeroed(blocks + 3)
		spread := 0
		for _, r := range p {
			if r.each != nil {
				spread++
			}
		}
		assert.Equal(
			t,
			map[string]int{"in order": 0, "with gaps": 0, "at random": 6, "two swapped": 1}[name],
			spread,
			"runs that need a number for each block",
		)
		for number := range int64(blocks + 10) {
			index, ok := p.find(number)
			want, has := model[number]
			require.Equal(t, has, ok, "%s: %d", name, number)
			if has {
				require.Equal(t, want, index, "%s: %d", name, number)
			}
			require.Equal(t, number == blocks+3, p.zeroed(number))
		}
	}
}

func TestRoundUp(t *testing.T) {
	l := Layout{Granularity: 512}
	for _, c := range []struct{ size, sector, multiple, want int64 }{
		{1, 0, 0, 512}, {512, 0, 0, 512}, {513, 4096, 0, 4096}, {1, 0, 1 << 20, 1 << 20}, {1<<20 + 1, 4096, 3 << 19, 3 << 19}, {1, 0, 700, 89600},
	} {
		assert.Equal(t, c.want, l.RoundUp(c.size, Options{SectorSize: c.sector}, c.multiple), "%+v", c)
	}
}
