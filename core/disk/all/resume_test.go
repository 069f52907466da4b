package all

import (
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pulled is a disk whose reads fail from an offset on.
type pulled struct {
	disk.Reader
	at int64
}

var errPulled = errors.New("the plug was pulled")

func (p pulled) ReadAt(b []byte, off int64) (int, error) {
	if off+int64(len(b)) > p.at {
		return 0, errPulled
	}
	return p.Reader.ReadAt(b, off)
}

// TestResumed: an image that was interrupted several times, at any point and with the marks that were made by then, is byte for
// byte the one that was not.
func TestResumed(t *testing.T) {
	c := scattered()
	c.pieces = append(c.pieces, piece{34 << 20, noise(50, 6<<20)})
	raw := rows()[0]
	src := reopen(t, raw, create(t, raw, c))
	seed := uint64(0)
	eachLayout(t, func(t *testing.T, l layout) {
		if !l.fits(c.size) {
			t.Skip("too large for this layout")
		}
		seed++
		r := rand.New(rand.NewPCG(seed, 3))
		whole := fresh(t)
		plain := target(t, l, whole, c.size)
		w, err := l.format.Create(plain)
		require.NoError(t, err)
		var meter transfer.Meter
		_, err = transfer.Transfer{Source: src, Destination: w, Base: plain.Base, Meter: &meter}.Run(t.Context())
		require.NoError(t, err)
		require.NoError(t, w.Commit(t.Context()))

		parts := fresh(t)
		target := target(t, l, parts, c.size)
		var marks [][]byte
		// The last two are interrupted in Commit, and not at all.
		for _, at := range []int64{r.Int64N(c.size), r.Int64N(c.size), c.size * 2 / 3, c.size, c.size} {
			w, earlier := takeUp(t, l, target, marks)
			_, err := transfer.Transfer{
				Source: pulled{src, at}, Destination: w, Base: target.Base, Meter: &meter, Leaves: earlier, Every: 1,
				Keep: func(m transfer.Mark) error {
					b, err := m.AppendBinary(nil)
					marks = append(marks, b)
					return err
				},
			}.Run(t.Context())
			if at < c.size && err != nil { // it may have come that far before
				require.ErrorIs(t, err, errPulled)
				require.NoError(t, w.Close())
				spoil(t, parts, w.Files(), target.Name)
				continue
			}
			require.NoError(t, err)
			require.NoError(t, w.Commit(t.Context()))
		}
		for _, name := range w.Files() {
			assert.Equal(t, content1(t, whole, name), content1(t, parts, name), name)
		}
	})
}

// takeUp makes the writer from the marks, or begins.
func takeUp(t *testing.T, l layout, target disk.Target, marks [][]byte) (disk.Writer, *fingerprint.Leaves) {
	t.Helper()
	if len(marks) == 0 {
		_ = target.Folder.Remove(target.Name) // what was begun without a mark
		for _, name := range l.FileNames(target.Name, target.Size, target.Options) {
			_ = target.Folder.Remove(name)
		}
		w, err := l.format.Create(target)
		require.NoError(t, err)
		return w, nil
	}
	leaves := fingerprint.NewLeaves(target.Size)
	w, err := disk.Resume(l.format, target, func(yield func(disk.Written, error) bool) {
		for _, b := range marks {
			m, err := transfer.ReadMark(b, leaves)
			for _, x := range m.Written {
				if !yield(x, err) {
					return
				}
			}
		}
	})
	require.NoError(t, err)
	return w, leaves
}

// spoil puts behind the last mark what a crash may leave there.
func spoil(t *testing.T, folder *local.Folder, names []string, skip string) {
	t.Helper()
	for _, name := range names {
		f, err := folder.Reopen(name)
		if err != nil { // it is made at Commit
			continue
		}
		size, err := f.Size()
		require.NoError(t, err)
		if len(names) == 1 && name == skip {
			_, err = f.WriteAt(noise(77, 5000), (size>>29+1)<<29) // behind the last block, however large
		}
		require.NoError(t, errors.Join(err, f.Close()))
	}
}

func content1(t *testing.T, folder *local.Folder, name string) fingerprint.Digest {
	t.Helper()
	f, err := folder.Open(name)
	require.NoError(t, err)
	defer f.Close()
	size, err := f.Size()
	require.NoError(t, err)
	leaves := fingerprint.NewLeaves(size)
	p := make([]byte, fingerprint.LeafSize)
	for off := int64(0); off < size; off += fingerprint.LeafSize {
		n, err := f.ReadAt(p, off)
		if !errors.Is(err, io.EOF) {
			require.NoError(t, err)
		}
		leaves.Append(fingerprint.Leaf(p[:n]))
	}
	sum, err := leaves.Sum()
	require.NoError(t, err)
	return fingerprint.Digest(sum)
}

// TestResumedFromBrokenMarks: what is kept elsewhere may be damaged too.
func TestResumedFromBrokenMarks(t *testing.T) {
	m := transfer.Mark{
		Leaves:  fingerprint.NewLeaves(4 << 20),
		Tail:    []byte("end"),
		Written: []disk.Written{{Extent: disk.Extent{Off: 5, Len: 7}, Encoded: 3}},
	}
	m.Leaves.Append(fingerprint.Leaf([]byte("x")))
	m.Damaged = []fingerprint.Range{{Offset: 1, Length: 2}}
	b, err := m.AppendBinary(nil)
	require.NoError(t, err)
	got, err := transfer.ReadMark(b, fingerprint.NewLeaves(4<<20))
	require.NoError(t, err)
	assert.Equal(t, m.Written, got.Written)
	assert.Equal(t, m.Damaged, got.Damaged)
	assert.Equal(t, m.Tail, got.Tail)
	for n := range len(b) {
		_, err := transfer.ReadMark(b[:n], fingerprint.NewLeaves(4<<20))
		if err == nil { // cut before the leaves, of which it then has none
			assert.Greater(t, n, len(b)-36)
		}
	}
	_, err = disk.Resume(rows()[1].format, disk.Target{Folder: fresh(t), Name: "none", Size: 1 << 20}, func(func(disk.Written, error) bool) {})
	require.Error(t, err)
}
