package salvage

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"syscall"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dying is a disk of which some sectors cannot be read, and some are slow.
type dying struct {
	content []byte
	bad     map[int64]bool // by sectors
	slow    map[int64]bool // by large parts
	tried   map[int64]int  // how often a sector was in a read that failed
	read    map[int64]int  // how often one was read
	order   []int64        // offsets of reads
	without [2]int64       // sectors that are not selected: from, to
	strays  int            // reads of them
	stop    int            // it is pulled behind so many reads; 0 for never
}

var errPulled = errors.New("pulled")

func (d *dying) ReadAt(p []byte, off int64) (int, error) {
	if d.order = append(d.order, off); d.stop > 0 && len(d.order) > d.stop {
		return 0, errPulled
	}
	if d.slow[off/large] {
		time.Sleep(300 * time.Millisecond)
	}
	first, last := off/sector, (off+int64(len(p))-1)/sector
	if first < d.without[1] && last >= d.without[0] {
		d.strays++
	}
	for s := first; s <= last; s++ {
		if d.bad[s] {
			for s := first; s <= last; s++ {
				d.tried[s]++
			}
			return 0, syscall.EIO
		}
	}
	for s := first; s <= last; s++ {
		d.read[s]++
	}
	return copy(p, d.content[off:]), nil
}

func (d *dying) Size() int64  { return int64(len(d.content)) }
func (d *dying) Close() error { return nil }
func (d *dying) Extent(off int64) (disk.Extent, error) {
	switch from, to := d.without[0]*sector, d.without[1]*sector; {
	case off < from:
		return disk.Extent{Off: off, Len: from - off, Kind: disk.Data}, nil
	case off < to:
		return disk.Extent{Off: off, Len: to - off, Kind: disk.Zero}, nil
	}
	return disk.Extent{Off: off, Len: d.Size() - off, Kind: disk.Data}, nil
}
func (d *dying) Describe() disk.Description { return disk.Description{} }

type memory []byte

func (m memory) WriteAt(p []byte, off int64) (int, error) { return copy(m[off:], p), nil }

func newDying(random *rand.Rand, size int64) *dying {
	d := &dying{content: make([]byte, size), bad: map[int64]bool{}, slow: map[int64]bool{}, tried: map[int64]int{}, read: map[int64]int{}}
	for i := range d.content {
		d.content[i] = byte(random.Uint32() | 1)
	}
	return d
}

// TestAllThatCanBeReadIs: random scratches; it is interrupted at random moments, and goes on from the text of its map, each time with something else that
// is not selected, and with everything in the end. What was read is never read again, what is not selected never, and a bad sector is not tried for ever.
func TestAllThatCanBeReadIs(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 17))
	for range 25 {
		size := large*(2+random.Int64N(6)) + sector*random.Int64N(300)
		d := newDying(random, size)
		for range random.IntN(6) {
			at, n := random.Int64N(size/sector), 1+random.Int64N(40)
			for s := at; s < min(at+n, size/sector); s++ {
				d.bad[s] = true
			}
		}
		out := make(memory, size)
		m := &Map{Disk: "gate-kiosk K7-2204", Size: size}
		kept := &bytes.Buffer{}
		for {
			d.order = nil
			d.stop = []int{0, 1 + random.IntN(40)}[random.IntN(2)]
			d.without = [2]int64{}
			if random.IntN(3) > 0 {
				from := random.Int64N(size / sector)
				d.without = [2]int64{from, from + 1 + random.Int64N(size/sector-from)}
			}
			known := m.Within([]fingerprint.Range{{Offset: d.without[0] * sector, Length: (d.without[1] - d.without[0]) * sector}})
			s := Salvage{Source: d, Out: out, Map: m, Tell: func(int64) {}, Keep: func() error {
				kept.Reset()
				_, err := m.WriteTo(kept)
				return err
			}}
			err := s.Run(t.Context())
			again, parseErr := Parse(bytes.NewReader(kept.Bytes()))
			require.NoError(t, parseErr)
			require.Equal(t, m, again)
			require.Zero(t, d.strays, "what is not selected is not read")
			require.Equal(t, known, again.Within([]fingerprint.Range{{
				Offset: d.without[0] * sector, Length: (d.without[1] - d.without[0]) * sector,
			}}), "and nothing new is known of it")
			m = again
			if err == nil && d.without == [2]int64{} {
				break
			}
			if err != nil {
				require.ErrorIs(t, err, errPulled)
			}
		}
		var bad int64
		for _, r := range m.In(Bad) {
			for s := r.Offset / sector; s < (r.Offset+r.Length)/sector; s++ {
				require.True(t, d.bad[s], "only what cannot be read is bad")
				require.LessOrEqual(t, d.tried[s], 12, "a place is not tried for ever")
				bad++
			}
		}
		require.EqualValues(t, len(d.bad), bad, "and all of that")
		require.Empty(t, m.In(Later))
		require.Empty(t, m.Untried(0, size))
		for s := range size / sector {
			if !d.bad[s] {
				require.Equal(t, d.content[s*sector:(s+1)*sector], []byte(out[s*sector:(s+1)*sector]))
				require.Equal(t, 1, d.read[s], "what was read is not read again")
			}
		}
	}
}

// TestWhatReadsWellIsReadFirst: a place that fails or is slow is jumped over, further each time, and come to from its other side.
func TestWhatReadsWellIsReadFirst(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	d := newDying(random, 16*large)
	for s := int64(3 * large / sector); s < 6*large/sector; s++ {
		d.bad[s] = true
	}
	d.slow[9] = true
	m := &Map{Size: d.Size()}
	s := Salvage{
		Source: d,
		Out:    make(memory, d.Size()),
		Map:    m,
		Tell:   func(int64) {},
		Keep:   func() error { return nil },
		Slow:   150 * time.Millisecond,
	}
	require.NoError(t, s.Run(t.Context()))
	var firsts []int64
	for _, off := range d.order {
		if off%large == 0 && (len(firsts) == 0 || off/large > firsts[len(firsts)-1]) {
			firsts = append(firsts, off/large)
		}
	}
	assert.Equal(
		t,
		[]int64{0, 1, 2, 3, 5, 8, 9, 11, 12, 13, 14, 15},
		firsts[:12],
		"1 MiB is jumped over behind the first failure, 2 behind the next",
	)
	assert.Equal(t, []fingerprint.Range{{Offset: 3 * large, Length: 3 * large}}, m.In(Bad))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s.Map = &Map{Size: d.Size()}
	require.ErrorIs(t, s.Run(ctx), context.Canceled)
}

// TestMaps: states of random ranges are those of a plain array.
func TestMaps(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	for range 500 {
		const size = 60
		m, plain := &Map{Size: size}, make([]State, size)
		for range 40 {
			at, n := random.Int64N(size), int64(0)
			n = 1 + random.Int64N(size-at)
			state := []State{Read, Later, Bad}[random.IntN(3)]
			m.Set(at, n, state)
			for i := at; i < at+n; i++ {
				plain[i] = state
			}
			got := make([]State, size)
			var last *Run
			for i, r := range m.Runs {
				if last != nil {
					require.GreaterOrEqual(t, r.Offset, last.Offset+last.Length)
					require.False(t, r.Offset == last.Offset+last.Length && r.State == last.State, "they are one")
				}
				last = &m.Runs[i]
				for j := r.Offset; j < r.Offset+r.Length; j++ {
					got[j] = r.State
				}
			}
			require.Equal(t, plain, got)
			in, at := m.Within([]fingerprint.Range{{Offset: 3, Length: 20}, {Offset: 40, Length: 15}}), random.Int64N(size)
			for i := range int64(size) {
				want := plain[i]
				if i < 3 || i >= 23 && i < 40 || i >= 55 {
					want = ""
				}
				require.Equal(t, want == "", len(in.Untried(i, 1)) == 1)
				if want != "" {
					require.Contains(t, in.Within([]fingerprint.Range{{Offset: i, Length: 1}}).In(want), fingerprint.Range{Offset: i, Length: 1})
				}
			}
			free := map[int64]bool{}
			for _, r := range m.Untried(at, size-at) {
				for j := r.Offset; j < r.Offset+r.Length; j++ {
					free[j] = true
				}
			}
			for i := at; i < size; i++ {
				require.Equal(t, plain[i] == "", free[i])
			}
		}
	}
}

func FuzzMap(f *testing.F) {
	f.Add([]byte("bagaglio map 1\ndisk gate-kiosk\nsize 4096\nimage 2f\nread 0 512\nlater 512 512\nbad 1024 3072\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(bytes.NewReader(b))
		if err != nil {
			require.ErrorIs(t, err, ErrMap)
			return
		}
		var out bytes.Buffer
		_, err = m.WriteTo(&out)
		require.NoError(t, err)
		again, err := Parse(&out)
		require.NoError(t, err)
		require.Equal(t, m.Runs, again.Runs)
	})
}
