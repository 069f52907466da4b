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
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layout is one row: every layout that can be written passes the same tests.
type layout struct {
	format disk.Format
	disk.Layout
	options disk.Options
	variant string
}

func (l layout) String() string { return l.format.Name + "-" + l.Name + l.variant }

func (l layout) fileName() string { return "disk" + l.format.Extensions[0] }

// variants are the options that change how an image is laid out, by layout.
var variants = map[string]map[string]disk.Options{
	"raw-pieces":  {"-5M": {PieceSize: 5 << 20}},
	"qcow2-thin":  {"-v2": {Version: 2}, "-512": {BlockSize: 512}, "-4K": {BlockSize: 4096}, "-2M": {BlockSize: 2 << 20}},
	"qcow2-thick": {"-tables": {Reserve: "tables"}, "-4K": {BlockSize: 4096}},
	"qcow2-compressed": {
		"-v2": {
			Version: 2,
		},
		"-zstd":    {Compression: "zstd"},
		"-512":     {BlockSize: 512},
		"-4K":      {BlockSize: 4096},
		"-2M-zstd": {BlockSize: 2 << 20, Compression: "zstd"},
	},
	"qcow2-overlay":     {"-v2": {Version: 2}, "-512": {BlockSize: 512}, "-2M": {BlockSize: 2 << 20}},
	"vmdk-split-sparse": {"-5M": {PieceSize: 5 << 20}},
	"vmdk-split-flat":   {"-5M": {PieceSize: 5 << 20}},
	"vhdx-dynamic":      {"-32M": {BlockSize: 32 << 20}, "-4Kn": {SectorSize: 4096}, "-256M-4Kn": {BlockSize: 256 << 20, SectorSize: 4096}},
	"vhdx-fixed":        {"-8M": {BlockSize: 8 << 20}},
	"vhdx-differencing": {"-32M": {BlockSize: 32 << 20}},
	"hdd-expanding":     {"-bundle": {Bundle: "yes"}},
}

// rows are all layouts with their defaults.
func rows() (out []layout) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			out = append(out, layout{format: f, Layout: l})
		}
	}
	return out
}

// eachLayout runs a test for every layout, with its defaults and with options.
func eachLayout(t *testing.T, test func(*testing.T, layout)) {
	for _, l := range rows() {
		t.Run(l.String(), func(t *testing.T) { test(t, l) })
		for name, options := range variants[l.String()] {
			row := l
			row.variant, row.options = name, options
			t.Run(row.String(), func(t *testing.T) { test(t, row) })
		}
	}
}

// fits tells whether the test can make a disk of that size: a thick image would fill the machine.
func (l layout) fits(size int64) bool {
	return size <= l.LimitFor(l.options) && size == l.RoundUp(size, l.options, 0) && (!l.Thick || size <= 1<<30)
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
	noises.Lock()
	defer noises.Unlock()
	if len(noises.by[seed]) < n { // the generator would take a sixth of all time
		b := make([]byte, n)
		_, _ = rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b) // never fails
		noises.by[seed] = b
	}
	return bytes.Clone(noises.by[seed][:n])
}

var noises = struct {
	sync.Mutex
	by map[uint64][]byte
}{by: map[uint64][]byte{}}

func contents() []content {
	const mib = 1 << 20
	scattered := content{name: "scattered", size: 41 * mib}
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 40 {
		n := 1 + r.IntN(200_000)
		scattered.pieces = append(scattered.pieces, piece{r.Int64N(33*mib - int64(n)), noise(uint64(i), n)})
	}
	small := content{name: "small", size: 9 * mib}
	for i := range 12 {
		n := 1 + r.IntN(100_000)
		small.pieces = append(small.pieces, piece{r.Int64N(7*mib - int64(n)), noise(uint64(i), n)})
	}
	runs := append(append(noise(1, 300_000), make([]byte, 5*mib)...), noise(2, 300_000)...)
	return []content{
		{name: "empty", size: 8 * mib},
		{name: "full", size: 6 * mib, pieces: []piece{{0, noise(3, 6*mib)}}},
		scattered,
		small,
		{name: "zero runs inside data", size: 16 * mib, pieces: []piece{{mib / 2, runs}}},
		{name: "last sector", size: 11*mib + 512, pieces: []piece{{11 * mib, noise(4, 512)}}},
		{name: "one sector", size: 512, pieces: []piece{{0, noise(5, 512)}}},
		{name: "odd size", size: 3*mib + 17*512, pieces: []piece{{5, noise(6, 3*mib+17*512-5)}}},
		{name: "5 TiB", size: 5 << 40, pieces: []piece{{1 << 30, noise(7, 4096)}, {5<<40 - 4096, noise(9, 4096)}}},
		{
			name:   "large and nearly empty",
			size:   1 << 40,
			pieces: []piece{{0, noise(7, 4096)}, {600 << 30, noise(8, 3*mib)}, {1<<40 - 4096, noise(9, 4096)}},
		},
	}
}

// create makes an image of content in a fresh folder.
func create(t testing.TB, l layout, c content) *local.Folder {
	t.Helper()
	folder := fresh(t)
	write(t, folder, l, c)
	return folder
}

func write(t testing.TB, folder *local.Folder, l layout, c content) {
	t.Helper()
	w := begin(t, l, folder, c.size)
	for _, p := range c.pieces {
		n, err := w.WriteAt(p.data, p.off)
		require.NoError(t, err)
		require.Len(t, p.data, n)
	}
	require.NoError(t, w.Commit(t.Context()))
}

func fresh(t testing.TB) *local.Folder {
	t.Helper()
	folder, err := local.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	return folder
}

// begin begins an image that reads as zeros. One that stands on a base gets one with other content, and hides it.
func begin(t testing.TB, l layout, folder *local.Folder, size int64) disk.Writer {
	t.Helper()
	target := target(t, l, folder, size)
	w, err := l.format.Create(target)
	require.NoError(t, err)
	if target.Base != nil {
		require.NoError(t, disk.Extents(t.Context(), target.Base, func(e disk.Extent) error {
			if e.Kind == disk.Data {
				return w.Zero(e.Off, e.Len)
			}
			return nil
		}))
	}
	return w
}

func target(t testing.TB, l layout, folder *local.Folder, size int64) disk.Target {
	t.Helper()
	out := disk.Target{
		Folder:     folder,
		Name:       l.fileName(),
		Size:       size,
		Layout:     l.Name,
		Options:    l.options,
		Identifier: [16]byte{1, 2, 3},
		Created:    time.Unix(1_800_000_000, 0),
	}
	if !l.Stands {
		return out
	}
	out.BaseName = "base" + l.format.Extensions[0]
	w, err := l.format.Create(
		disk.Target{Folder: folder, Name: out.BaseName, Size: size, Layout: l.format.Layouts[0].Name, Identifier: [16]byte{4, 5}},
	)
	require.NoError(t, err)
	for off := int64(0); off < size; off += size/5 + 1 {
		_, err := w.WriteAt(noise(99, int(min(150_000, size-off))), off)
		require.NoError(t, err)
	}
	require.NoError(t, w.Commit(t.Context()))
	out.Base, err = disk.Open(t.Context(), folder, out.BaseName, "")
	require.NoError(t, err)
	t.Cleanup(func() { _ = out.Base.Close() })
	return out
}

func reopen(t *testing.T, l layout, folder *local.Folder) disk.Reader {
	t.Helper()
	r, err := disk.Open(t.Context(), folder, l.fileName(), "")
	require.NoError(t, err)
	t.Cleanup(func() { _ = r.Close() })
	return r
}

// fingerprintOf reads a whole disk.
func fingerprintOf(t *testing.T, r disk.Reader) string {
	t.Helper()
	var meter transfer.Meter
	result, err := transfer.Transfer{Source: r, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	sum, err := result.Leaves.Sum()
	require.NoError(t, err)
	return sum.String()
}

// TestWhatWasWrittenIsRead: content, extents, description and tables of every layout with every content.
func TestWhatWasWrittenIsRead(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		for _, c := range contents() {
			if !l.fits(c.size) {
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
				assert.Equal(t, disk.OpenedFirst(l.FileNames(l.fileName(), c.size, l.options)), d.Files)
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
// takes the contents that differ most, and options only on one side.
func TestEveryLayoutToEveryOther(t *testing.T) {
	raw := rows()[0]
	for _, c := range contents() {
		if !slices.Contains([]string{"small", "zero runs inside data", "large and nearly empty"}, c.name) {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			plain := reopen(t, raw, create(t, raw, c))
			want := fingerprintOf(t, plain)
			for _, from := range fewer.Of(t, 8, rows()) {
				t.Run(from.String(), func(t *testing.T) {
					if !from.fits(c.size) {
						t.Skip("too large for this layout, or for this machine")
					}
					src := reopen(t, from, create(t, from, c))
					require.Equal(t, want, fingerprintOf(t, src))
					for _, to := range rows() {
						if to.fits(c.size) && (c.name == "small" || from.String() == raw.String()) {
							t.Run(to.String(), func(t *testing.T) { convert(t, to, src, want) })
						}
					}
				})
			}
			eachLayout(t, func(t *testing.T, to layout) {
				if to.variant != "" && to.fits(c.size) {
					convert(t, to, plain, want)
				}
			})
		})
	}
}

// convert makes an image of src, which has that fingerprint, and is not longer than a plan says it can become.
func convert(t *testing.T, to layout, src disk.Reader, want string) {
	folder := fresh(t)
	target := target(t, to, folder, src.Size())
	w, err := to.format.Create(target)
	require.NoError(t, err)
	var meter transfer.Meter
	_, err = transfer.Transfer{Source: src, Destination: w, Base: target.Base, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	dst := reopen(t, to, folder)
	assert.Equal(t, want, fingerprintOf(t, dst))
	if check, ok := dst.(disk.Checker); ok {
		require.NoError(t, check.Check(t.Context()))
	}
	assert.Equal(t, disk.OpenedFirst(w.Files()), dst.Describe().Files)
	length, _, err := storage.Measure(folder, w.Files())
	require.NoError(t, err)
	like := src
	if to.Stands { // it is planned as if all of the source differed
		like = target.Base
	}
	stored, _, err := disk.Count(t.Context(), src, to.Units(src.Size(), to.options)...)
	require.NoError(t, err)
	below, _, err := disk.Count(t.Context(), like, to.Units(src.Size(), to.options)...)
	require.NoError(t, err)
	for unit := range stored {
		if to.Stands {
			stored[unit] = min(stored[unit]+below[unit], to.RoundUp(src.Size(), to.options, unit))
		}
	}
	assert.LessOrEqual(t, length, to.FileSize(src.Size(), to.options, stored))
}

// TestWritesInAnyOrder: random, overlapping writes and zeros from several goroutines leave what they leave in a plain model.
func TestWritesInAnyOrder(t *testing.T) {
	const size, lanes = 24<<20 + 512, 4
	eachLayout(t, func(t *testing.T, l layout) {
		size := int(l.RoundUp(size, l.options, 0))
		folder := fresh(t)
		target := target(t, l, folder, int64(size))
		w, err := l.format.Create(target)
		require.NoError(t, err)
		model := make([]byte, size)
		if target.Base != nil { // what is not written shows it
			_, err := target.Base.ReadAt(model, 0)
			require.NoError(t, err)
		}
		var group sync.WaitGroup
		for lane := range lanes { // each has a range of its own, whose ends lie inside of blocks
			group.Go(func() {
				r := rand.New(rand.NewPCG(uint64(lane), 5))
				low, high := size*lane/lanes, size*(lane+1)/lanes
				for i := range 60 {
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
		_, err = io.ReadFull(io.NewSectionReader(reopen(t, l, folder), 0, int64(size)), got)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(model, got))
	})
}

// TestSameInputSameBytes: with the same identifier two images do not differ in a byte.
func TestSameInputSameBytes(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		c := scattered()
		var files [2][]byte
		for i := range files {
			folder := create(t, l, c)
			for _, name := range l.FileNames(l.fileName(), c.size, l.options) {
				f, err := folder.Open(name)
				require.NoError(t, err)
				defer f.Close()
				size, err := f.Size()
				require.NoError(t, err)
				b := make([]byte, size)
				_, err = io.ReadFull(io.NewSectionReader(f, 0, size), b)
				require.NoError(t, err)
				files[i] = append(files[i], b...)
			}
		}
		assert.True(t, bytes.Equal(files[0], files[1]))
	})
}

// TestClosedBeforeCommit: what is left is no image, and a file that exists is never written to.
func TestClosedBeforeCommit(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		folder := fresh(t)
		target := target(t, l, folder, 8<<20)
		w, err := l.format.Create(target)
		require.NoError(t, err)
		_, err = w.WriteAt(noise(1, 3<<20), 12345)
		require.NoError(t, err)
		_, err = l.format.Create(target)
		require.Error(t, err, "a second image under the same name")
		cancelled, cancel := context.WithCancel(t.Context())
		cancel()
		require.ErrorIs(t, w.Commit(cancelled), context.Canceled)
		require.NoError(t, w.Close())
		require.NoError(t, w.Close(), "closing twice does nothing")
		if l.format.Name == "raw" { // has no marks: any file is one
			return
		}
		r, err := disk.Open(t.Context(), folder, l.fileName(), l.format.Name)
		if err == nil && l.Name == "plain" { // likewise, without its bundle
			require.NoError(t, r.Close())
			return
		}
		require.Error(t, err)
	})
}

// TestOutsideOfTheDisk: reads end at the end of the disk, and writes behind it are refused.
func TestOutsideOfTheDisk(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		c := content{size: 2<<20 + 4096, pieces: []piece{{2 << 20, noise(1, 4096)}}}
		r := reopen(t, l, create(t, l, c))
		p := make([]byte, 8192)
		n, err := r.ReadAt(p, 2<<20)
		assert.Equal(t, 4096, n)
		require.ErrorIs(t, err, io.EOF)
		_, err = r.ReadAt(p, c.size)
		require.ErrorIs(t, err, io.EOF)
		_, err = r.ReadAt(p, -1)
		require.Error(t, err)

		w := begin(t, l, fresh(t), c.size)
		defer func() { require.NoError(t, w.Close()) }()
		for _, off := range []int64{c.size - 8191, c.size, -1, 1<<63 - 1} {
			_, err = w.WriteAt(p, off)
			require.Error(t, err, fmt.Sprint(off))
			require.Error(t, w.Zero(off, 8192), fmt.Sprint(off))
		}
	})
}
