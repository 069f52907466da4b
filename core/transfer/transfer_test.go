package transfer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// source is a disk in memory whose extents are given.
type source struct {
	disk.Reader
	content []byte
	size    int64
	extents []disk.Extent
	fail    int64 // reads at and behind it fail, when it is not 0
	reads   sync.Map
}

func (s *source) Size() int64 { return s.size }

func (s *source) ReadAt(p []byte, off int64) (int, error) {
	if s.fail > 0 && off+int64(len(p)) > s.fail {
		return 0, errors.New("the platter is scratched")
	}
	if _, again := s.reads.LoadOrStore(off, true); again {
		return 0, errors.New("read twice")
	}
	return copy(p, s.content[off:]), nil
}

func (s *source) Extent(off int64) (disk.Extent, error) {
	for _, e := range s.extents {
		if off >= e.Off && off < e.End() {
			return disk.Extent{Off: off, Len: e.End() - off, Kind: e.Kind}, nil
		}
	}
	return disk.Extent{Off: off, Len: s.size - off, Kind: disk.Hole}, nil
}

// target remembers what was written, and in which order places were given.
type target struct {
	disk.Writer
	mu      sync.Mutex
	content []byte
	placed  []int64
	fail    bool
}

func (d *target) Place(off, _ int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.placed = append(d.placed, off)
	return nil
}

func (d *target) WriteAt(p []byte, off int64) (int, error) {
	if d.fail && off > 10<<20 {
		return 0, errors.New("the drive was pulled")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return copy(d.content[off:], p), nil
}

// random makes a source of random extents, among them tiny ones, and their neighbours of another kind without content.
func random(seed uint64, size int64) *source {
	r := rand.New(rand.NewPCG(seed, 1))
	s := &source{content: make([]byte, size), size: size}
	lengths := []int64{512, 4096, 70_000, 1 << 20, 5<<20 + 512}
	for off := int64(0); off < size; {
		n := min(size-off, 1+r.Int64N(lengths[r.IntN(len(lengths))]))
		e := disk.Extent{Off: off, Len: n, Kind: disk.Kind(r.IntN(3))}
		if e.Kind == disk.Data && r.IntN(4) > 0 { // some data is zeros all the same
			for i := off; i < off+n; i++ {
				s.content[i] = byte(r.Uint32())
			}
		}
		s.extents = append(s.extents, e)
		off += n
	}
	return s
}

func TestWhatIsReadOnceArrives(t *testing.T) {
	for seed := range uint64(8) {
		size := int64(23<<20 + 512*(seed%5))
		s := random(seed, size)
		d := &target{content: make([]byte, size)}
		var meter Meter
		result, err := Transfer{Source: s, Destination: d, Meter: &meter}.Run(t.Context())
		require.NoError(t, err)
		assert.True(t, bytes.Equal(s.content, d.content), "seed %d", seed)
		assert.IsNonDecreasing(t, d.placed, "seed %d: places are given in guest order", seed)

		leaves := fingerprint.NewLeaves(size)
		for at := int64(0); at < size; at += fingerprint.LeafSize {
			leaves.Append(fingerprint.Leaf(s.content[at:min(at+fingerprint.LeafSize, size)]))
		}
		want, err := leaves.Sum()
		require.NoError(t, err)
		got, err := result.Leaves.Sum()
		require.NoError(t, err)
		assert.Equal(t, want, got, "seed %d", seed)

		var stored int64
		for _, e := range s.extents {
			if e.Kind == disk.Data {
				stored += e.Len
			}
		}
		assert.Equal(t, stored, meter.Read.Load(), "holes are not read")
		assert.LessOrEqual(t, meter.Written.Load(), stored)
	}
}

// TestZerosAreNotWritten, also those that a source has stored.
func TestZerosAreNotWritten(t *testing.T) {
	const size = 32 << 20
	s := &source{content: make([]byte, size), size: size, extents: []disk.Extent{{Off: 0, Len: size}}}
	s.content[9<<20] = 1
	var meter Meter
	_, err := Transfer{Source: s, Destination: &target{content: make([]byte, size)}, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(size), meter.Read.Load())
	assert.Equal(t, int64(zeroUnit), meter.Written.Load())
}

// TestHolesCostNothing: 16 TiB of nothing would take hours to read.
func TestHolesCostNothing(t *testing.T) {
	s := &source{size: 16 << 40}
	var meter Meter
	result, err := Transfer{Source: s, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	assert.Zero(t, meter.Read.Load())
	assert.Equal(t, int64(16<<20), result.Leaves.Total())
}

func TestFailures(t *testing.T) {
	s := random(3, 40<<20)
	s.fail = 20 << 20
	var meter Meter
	_, err := Transfer{Source: s, Destination: &target{content: make([]byte, s.size)}, Meter: &meter}.Run(t.Context())
	require.ErrorContains(t, err, "reading the source at offset")
	require.ErrorContains(t, err, "the platter is scratched")

	s = random(3, 40<<20)
	_, err = Transfer{Source: s, Destination: &target{content: make([]byte, s.size), fail: true}, Meter: &meter}.Run(t.Context())
	require.ErrorContains(t, err, "writing the destination at offset")
	require.ErrorContains(t, err, "the drive was pulled")
}

// cancelling is a source that is stopped in the middle.
type cancelling struct {
	*source
	stop context.CancelFunc
}

func (c cancelling) ReadAt(p []byte, off int64) (int, error) {
	if off > 10<<20 {
		c.stop()
	}
	return c.source.ReadAt(p, off)
}

func TestCancel(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var meter Meter
	s := random(5, 60<<20)
	_, err := Transfer{Source: cancelling{s, cancel}, Meter: &meter}.Run(ctx)
	require.ErrorIs(t, err, context.Canceled)
	assert.Less(t, meter.Read.Load(), s.size)
}

// liar says that it has read everything, and that something went wrong.
type liar struct{ *source }

func (l liar) ReadAt(p []byte, off int64) (int, error) {
	n, _ := l.source.ReadAt(p, off)
	return n, io.ErrUnexpectedEOF
}

func TestAnErrorCountsWhateverTheLength(t *testing.T) {
	var meter Meter
	_, err := Transfer{Source: liar{random(1, 4<<20)}, Meter: &meter}.Run(t.Context())
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
}
