package all

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layout is one row: every layout that can be written passes the same tests.
type layout struct {
	format disk.Format
	disk.Layout
}

func (l layout) String() string { return l.format.Name + "-" + l.Name }

func eachLayout(t *testing.T, test func(*testing.T, layout)) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			t.Run(layout{f, l}.String(), func(t *testing.T) { test(t, layout{f, l}) })
		}
	}
}

// content is a disk by its pieces; everything else is zeros.
type content struct {
	name   string
	size   int64
	pieces []piece
}

type piece struct {
	off  int64
	data []byte
}

func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = r.Read(b) // never fails
	return b
}

func contents() []content {
	const mib = 1 << 20
	scattered := content{name: "scattered", size: 97 * mib}
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 60 {
		n := 1 + r.IntN(200_000)
		scattered.pieces = append(scattered.pieces, piece{r.Int64N(97*mib - int64(n)), noise(uint64(i), n)})
	}
	runs := append(append(noise(1, 300_000), make([]byte, 5*mib)...), noise(2, 300_000)...)
	return []content{
		{name: "empty", size: 8 * mib},
		{name: "full", size: 6 * mib, pieces: []piece{{0, noise(3, 6*mib)}}},
		scattered,
		{name: "zero runs inside data", size: 16 * mib, pieces: []piece{{mib / 2, runs}}},
		{name: "last sector", size: 11*mib + 512, pieces: []piece{{11 * mib, noise(4, 512)}}},
		{name: "one sector", size: 512, pieces: []piece{{0, noise(5, 512)}}},
		{name: "odd size", size: 3*mib + 17*512, pieces: []piece{{5, noise(6, 3*mib+17*512-5)}}},
		{name: "large and nearly empty", size: 1 << 40, pieces: []piece{{0, noise(7, 4096)}, {600 << 30, noise(8, 3*mib)}, {1<<40 - 4096, noise(9, 4096)}}},
	}
}

// create makes an image of content in a fresh folder.
func create(t *testing.T, l layout, c content) *local.Folder {
	t.Helper()
	folder, err := local.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	w := begin(t, l, folder, "disk"+l.format.Extensions[0], c.size)
	for _, p := range c.pieces {
		n, err := w.WriteAt(p.data, p.off)
		require.NoError(t, err)
		require.Len(t, p.data, n)
	}
	require.NoError(t, w.Commit(t.Context()))
	return folder
}

func begin(t *testing.T, l layout, folder *local.Folder, name string, size int64) disk.Writer {
	t.Helper()
	w, err := l.format.Create(disk.Target{Folder: folder, Name: name, Size: size, Layout: l.Name, Identifier: [16]byte{1, 2, 3}, Created: time.Unix(1_800_000_000, 0)})
	require.NoError(t, err)
	return w
}

func reopen(t *testing.T, l layout, folder *local.Folder) disk.Reader {
	t.Helper()
	r, err := disk.Open(t.Context(), folder, "disk"+l.format.Extensions[0], "")
	require.NoError(t, err)
	t.Cleanup(func() { _ = r.Close() })
	return r
}

// fingerprintOf reads a whole disk.
func fingerprintOf(t *testing.T, r disk.Reader) string {
	t.Helper()
	var meter transfer.Meter
	result, err := transfer.Run(t.Context(), r, nil, &meter)
	require.NoError(t, err)
	sum, err := result.Leaves.Sum()
	require.NoError(t, err)
	return sum.String()
}

// tooLarge: a thick image of that content would fill the machine.
func (l layout) tooLarge(c content) bool { return l.Thick && c.size > 1<<30 || c.size > l.Largest }

// TestWhatWasWrittenIsRead: content, extents, description and tables of every layout with every content.
func TestWhatWasWrittenIsRead(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		for _, c := range contents() {
			if l.tooLarge(c) {
				continue
			}
			t.Run(c.name, func(t *testing.T) {
				r := reopen(t, l, create(t, l, c))
				assert.Equal(t, c.size, r.Size())
				d := r.Describe()
				assert.Equal(t, l.format.Name, d.Format)
				assert.Equal(t, c.size, d.VirtualSize)
				assert.Empty(t, d.Warnings)
				if c.name == "scattered" || l.Thick && c.size > 1<<20 { // a thin image that is full is as good as thick
					assert.Equal(t, l.Name, d.Layout)
				}
				if check, ok := r.(disk.Checker); ok {
					assert.NoError(t, check.Check(t.Context()))
				}
				for _, p := range c.pieces {
					got := make([]byte, len(p.data))
					n, err := r.ReadAt(got, p.off)
					if !errors.Is(err, io.EOF) {
						require.NoError(t, err)
					}
					require.Len(t, got, n)
					if len(c.pieces) < 10 { // pieces of the scattered one lie over each other
						assert.True(t, bytes.Equal(p.data, got), "at %d", p.off)
					}
				}
				checkExtents(t, r, c)
			})
		}
	})
}

// checkExtents: the extents cover the disk without a gap, and every piece lies in data.
func checkExtents(t *testing.T, r disk.Reader, c content) {
	var next int64
	var data []disk.Extent
	require.NoError(t, disk.Extents(t.Context(), r, func(e disk.Extent) error {
		require.Equal(t, next, e.Off)
		next = e.End()
		if e.Kind == disk.Data {
			data = append(data, e)
		}
		return nil
	}))
	assert.Equal(t, c.size, next)
	for _, p := range c.pieces {
		// The first and the last byte are not zeros, mostly; a zero byte alone cannot be a hole of its own.
		for _, at := range []int64{p.off, p.off + int64(len(p.data)) - 1} {
			assert.True(t, within(data, at), "byte %d is content and lies in no extent with data", at)
		}
	}
}

func within(extents []disk.Extent, at int64) bool {
	for _, e := range extents {
		if at >= e.Off && at < e.End() {
			return true
		}
	}
	return false
}

// TestEveryLayoutToEveryOther: the fingerprint stays the same all the way. It grows with the square of the layouts, so it
// takes the contents that differ most.
func TestEveryLayoutToEveryOther(t *testing.T) {
	for _, c := range contents() {
		if !slices.Contains([]string{"scattered", "zero runs inside data", "odd size", "large and nearly empty"}, c.name) {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			want := fingerprintOf(t, reopen(t, layout{disk.Formats()[0], disk.Formats()[0].Layouts[0]}, create(t, layout{disk.Formats()[0], disk.Formats()[0].Layouts[0]}, c)))
			eachLayout(t, func(t *testing.T, from layout) {
				if from.tooLarge(c) {
					t.Skip("a thick image of this size would fill the machine")
				}
				src := reopen(t, from, create(t, from, c))
				require.Equal(t, want, fingerprintOf(t, src))
				eachLayout(t, func(t *testing.T, to layout) {
					if to.tooLarge(c) {
						t.Skip("a thick image of this size would fill the machine")
					}
					folder, err := local.Open(t.TempDir())
					require.NoError(t, err)
					defer folder.Close()
					w := begin(t, to, folder, "disk"+to.format.Extensions[0], c.size)
					var meter transfer.Meter
					_, err = transfer.Run(t.Context(), src, w, &meter)
					require.NoError(t, err)
					require.NoError(t, w.Commit(t.Context()))
					dst := reopen(t, to, folder)
					assert.Equal(t, want, fingerprintOf(t, dst))
					assertSizeAsPlanned(t, to, src, folder)
				})
			})
		})
	}
}

// assertSizeAsPlanned: the file is not longer than the plan says it can become.
func assertSizeAsPlanned(t *testing.T, to layout, src disk.Reader, folder *local.Folder) {
	stored, err := disk.Count(t.Context(), src, disk.Units()...)
	require.NoError(t, err)
	info, err := folder.Stat("disk" + to.format.Extensions[0])
	require.NoError(t, err)
	assert.LessOrEqual(t, info.Size, to.FileSize(src.Size(), stored))
}

// TestWritesInAnyOrder: random, overlapping writes and zeros from several goroutines leave what they leave in a plain model.
func TestWritesInAnyOrder(t *testing.T) {
	const size, lanes = 24<<20 + 512, 4
	eachLayout(t, func(t *testing.T, l layout) {
		folder, err := local.Open(t.TempDir())
		require.NoError(t, err)
		defer folder.Close()
		w := begin(t, l, folder, "disk"+l.format.Extensions[0], size)
		model := make([]byte, size)
		var group sync.WaitGroup
		for lane := range lanes { // each has a range of its own, whose ends lie inside of blocks
			group.Go(func() {
				r := rand.New(rand.NewPCG(uint64(lane), 5))
				low, high := size*lane/lanes, size*(lane+1)/lanes
				for i := range 120 {
					n := 1 + r.IntN(min(900_000, high-low))
					off := low + r.IntN(high-low-n+1)
					if i%5 == 4 {
						clear(model[off : off+n])
						assert.NoError(t, w.Zero(int64(off), int64(n)))
						continue
					}
					data := noise(uint64(lane*1000+i), n)
					copy(model[off:], data)
					_, err := w.WriteAt(data, int64(off))
					assert.NoError(t, err)
				}
			})
		}
		group.Wait()
		require.NoError(t, w.Commit(t.Context()))
		got := make([]byte, size)
		_, err = io.ReadFull(io.NewSectionReader(reopen(t, l, folder), 0, size), got)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(model, got))
	})
}

// TestSameInputSameBytes: with the same identifier two images do not differ in a byte.
func TestSameInputSameBytes(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		c := contents()[2]
		var files [2][]byte
		for i := range files {
			folder := create(t, l, c)
			f, err := folder.Open("disk" + l.format.Extensions[0])
			require.NoError(t, err)
			defer f.Close()
			size, err := f.Size()
			require.NoError(t, err)
			files[i] = make([]byte, size)
			_, err = f.ReadAt(files[i], 0)
			require.NoError(t, err)
		}
		assert.True(t, bytes.Equal(files[0], files[1]))
	})
}

// TestAbortLeavesNothing, at any moment before Commit; and a file that exists is never written to.
func TestAbortLeavesNothing(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		folder, err := local.Open(t.TempDir())
		require.NoError(t, err)
		defer folder.Close()
		name := "disk" + l.format.Extensions[0]
		w := begin(t, l, folder, name, 8<<20)
		_, err = w.WriteAt(noise(1, 3<<20), 12345)
		require.NoError(t, err)
		_, err = l.format.Create(disk.Target{Folder: folder, Name: name, Size: 8 << 20, Layout: l.Name})
		require.Error(t, err, "a second image under the same name")
		cancelled, cancel := context.WithCancel(t.Context())
		cancel()
		require.ErrorIs(t, w.Commit(cancelled), context.Canceled)
		require.NoError(t, w.Abort())
		left, err := folder.List(".")
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

// TestOutsideOfTheDisk: reads end at the end of the disk, and writes behind it are refused.
func TestOutsideOfTheDisk(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		c := content{size: 2<<20 + 512, pieces: []piece{{2 << 20, noise(1, 512)}}}
		r := reopen(t, l, create(t, l, c))
		p := make([]byte, 1024)
		n, err := r.ReadAt(p, 2<<20)
		assert.Equal(t, 512, n)
		require.ErrorIs(t, err, io.EOF)
		_, err = r.ReadAt(p, c.size)
		require.ErrorIs(t, err, io.EOF)
		_, err = r.ReadAt(p, -1)
		require.Error(t, err)

		folder, err := local.Open(t.TempDir())
		require.NoError(t, err)
		defer folder.Close()
		w := begin(t, l, folder, "disk", c.size)
		defer func() { require.NoError(t, w.Abort()) }()
		for _, off := range []int64{c.size - 1023, c.size, -1, 1<<63 - 1} {
			_, err = w.WriteAt(p, off)
			require.Error(t, err, fmt.Sprint(off))
			require.Error(t, w.Zero(off, 1024), fmt.Sprint(off))
		}
	})
}
