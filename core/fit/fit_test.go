package fit

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/inspect"
	_ "bagaglio/core/inspect/all"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func runs(t *testing.T, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("%s is missing", name)
	}
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// built is a disk that the system's own tools made.
type built struct {
	path string
	size int64
}

// part is a partition to be made: sfdisk's line for it, what is on it, and how much of it is filled.
type part struct {
	line, mkfs string
	files      int
}

func build(t *testing.T, size int64, table string, parts []part) built {
	t.Helper()
	b := built{filepath.Join(t.TempDir(), "disk.raw"), size}
	require.NoError(t, os.WriteFile(b.path, nil, 0o600))
	require.NoError(t, os.Truncate(b.path, size))
	script := "label: " + table + "\n"
	for _, p := range parts {
		script += p.line + "\n"
	}
	cmd := exec.Command("sfdisk", "--quiet", b.path)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for i, r := range b.ranges(t) {
		if parts[i].mkfs == "" {
			continue
		}
		file := filepath.Join(t.TempDir(), "part")
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		require.NoError(t, os.Truncate(file, r[1]))
		words := strings.Fields(parts[i].mkfs)
		if strings.HasPrefix(words[0], "mkfs.ext") {
			words = append(words, "-d", filled(t, parts[i].files))
		}
		if words[0] == "mkfs.vfat" {
			words = append(words, "-h", strconv.FormatInt(r[0]/512, 10))
		}
		if words[0] == "mkfs.ntfs" {
			words = append(words, "-p", strconv.FormatInt(r[0]/512, 10), "-H", "255", "-S", "63")
		}
		runs(t, words[0], append(words[1:], file)...)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		f, err := os.OpenFile(b.path, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt(content, r[0])
		require.NoError(t, errors.Join(err, f.Close()))
	}
	return b
}

// filled is a folder with files, some of them large.
func filled(t *testing.T, n int) string {
	t.Helper()
	dir := t.TempDir()
	random := rand.New(rand.NewPCG(uint64(n), 7))
	for i := range n {
		at := filepath.Join(dir, fmt.Sprintf("deck-%d", i%7))
		require.NoError(t, os.MkdirAll(at, 0o755))
		b := make([]byte, random.IntN(200_000))
		for j := range b {
			b[j] = byte(random.Uint32())
		}
		require.NoError(t, os.WriteFile(filepath.Join(at, fmt.Sprintf("log-%d", i)), b, 0o640))
	}
	require.NoError(t, os.Symlink("deck-0", filepath.Join(dir, "first")))
	return dir
}

// ranges are where the partitions lie, as sfdisk(8) reads the table: offset and length.
func (b built) ranges(t *testing.T) (all [][2]int64) {
	t.Helper()
	for line := range strings.Lines(runs(t, "sfdisk", "--dump", b.path)) {
		var start, size int64
		if _, err := fmt.Sscanf(
			strings.Join(strings.Fields(line[strings.Index(line, ":")+1:]), " "),
			"start= %d, size= %d,",
			&start,
			&size,
		); err == nil {
			all = append(all, [2]int64{start * 512, size * 512})
		}
	}
	return all
}

func (b built) open(t *testing.T) disk.Reader {
	t.Helper()
	folder, err := local.Open(filepath.Dir(b.path))
	require.NoError(t, err)
	d, err := disk.Open(t.Context(), folder, filepath.Base(b.path), "raw")
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func (b built) compute(t *testing.T, wish Wish, left ...int) (disk.Reader, Layout, error) {
	t.Helper()
	d := b.open(t)
	c, err := inspect.Inside(d)
	require.NoError(t, err)
	c.Fill(d)
	without := map[int]bool{}
	for _, n := range left {
		without[n] = true
	}
	l, err := Compute(d.Size(), c, without, wish, Able)
	return d, l, err
}

// fit makes the disk and leaves it as a file.
func (b built) fit(t *testing.T, wish Wish, left ...int) (built, Layout) {
	t.Helper()
	d, l, err := b.compute(t, wish, left...)
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "scratch")
	require.NoError(t, Change(t.Context(), d, l, dir, func(int64) {}))
	fitted, err := Changed(t.Context(), d, l, dir)
	require.NoError(t, err)
	l, err = Compare(t.Context(), d, fitted, l)
	require.NoError(t, err)
	out := built{filepath.Join(t.TempDir(), "fitted.raw"), l.Size}
	f, err := os.Create(out.path)
	require.NoError(t, err)
	_, err = io.Copy(f, io.NewSectionReader(fitted, 0, fitted.Size()))
	require.NoError(t, errors.Join(err, f.Close()))
	for off := int64(0); off < fitted.Size(); { // what is said to be zeros is
		e, err := fitted.Extent(off)
		require.NoError(t, err)
		require.Positive(t, e.Len)
		if e.Kind != disk.Data {
			b := make([]byte, min(e.Len, 8<<20))
			_, err := fitted.ReadAt(b, off)
			require.NoError(t, err)
			require.Equal(t, len(b), bytes.Count(b, []byte{0}))
		}
		off += e.Len
	}
	return out, l
}

// check has the system's own tools look at all of it, and compares files with those of another disk.
func (b built) check(t *testing.T, l Layout, before built) {
	t.Helper()
	assert.Contains(t, runs(t, "sfdisk", "--verify", b.path), "No errors detected")
	d, was := b.open(t), before.open(t)
	c, err := inspect.Inside(d)
	require.NoError(t, err)
	assert.Empty(t, c.Warnings, "both copies of the table are right, and nothing is cut")
	for _, p := range l.Parts {
		if p.Left || p.Filesystem == "" {
			continue
		}
		file := filepath.Join(t.TempDir(), "part")
		content := make([]byte, p.Length)
		_, err := d.ReadAt(content, p.Offset)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, content, 0o600))
		switch p.Filesystem {
		case "ext4", "ext3", "ext2":
			runs(t, "e2fsck", "-f", "-n", file)
		case "ntfs":
			runs(t, "ntfsfix", "-n", file)
			runs(t, "ntfsresize", "--info", "--force", file)
		case "fat16", "fat32":
			runs(t, "fsck.vfat", "-n", file)
		case "xfs":
			runs(t, "xfs_repair", "-n", "-f", file)
		}
		old, err := inspect.Mount(was, p.Filesystem, p.From, p.FromLength)
		require.NoError(t, err)
		now, err := inspect.Mount(d, p.Filesystem, p.Offset, p.Length)
		require.NoError(t, err)
		n, err := inspect.SameFiles(t.Context(), old, now)
		require.NoError(t, err)
		if p.Resized {
			assert.Equal(t, n, p.Files)
			assert.InDelta(t, p.Length, now.About().Size, unit, "the filesystem takes all of it")
		}
	}
}

// kiosk is a disk with small partitions before and behind the ones with files.
func kiosk(t *testing.T) built {
	return build(t, 320*unit, "gpt", []part{
		{"size=20MiB, type=U, name=efi", "mkfs.vfat -F 16", 0},
		{"size=8MiB, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE, name=reserved", "", 0},
		{"size=160MiB, type=L, name=system", "mkfs.ext4 -q -F -L system", 60},
		{"size=40MiB, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name=office", "mkfs.ntfs -Q -q -F", 0},
		{"size=60MiB, type=L, name=data", "mkfs.ext4 -q -F -L data", 40},
		{"size=10MiB, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC, name=recovery", "mkfs.ntfs -Q -q -F", 0},
	})
}

func TestSmaller(t *testing.T) {
	t.Parallel()
	b := kiosk(t)
	for _, c := range []struct {
		name    string
		wish    Wish
		left    []int
		resized []int
	}{
		{"by what is free at the end", Wish{Size: 310 * unit}, nil, nil},
		{"by the filesystem with most to give", Wish{Size: 220 * unit}, nil, []int{3}},
		{"by what is left out first", Wish{Size: 250 * unit}, []int{5}, nil},
		{"as small as possible", Wish{}, nil, []int{3, 4, 5}},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, l := b.fit(t, c.wish, c.left...)
			if c.wish.Size > 0 {
				assert.Equal(t, c.wish.Size, l.Size)
			} else {
				assert.Less(t, l.Size, 200*int64(unit))
			}
			var resized []int
			for _, p := range l.Parts {
				if p.Resized {
					resized = append(resized, p.Number)
				}
			}
			assert.Equal(t, c.resized, resized)
			out.check(t, l, b)
		})
	}
	_, _, err := b.compute(t, Wish{Size: 100 * unit})
	var size *SizeError
	require.ErrorAs(t, err, &size)
	_, _, err = b.compute(t, Wish{Size: size.Least})
	require.NoError(t, err, "what it offers is possible")
	_, _, err = b.compute(t, Wish{Size: size.Least - unit})
	require.ErrorIs(t, err, ErrSize)
	assert.ErrorContains(t, err, "Partition 1 (efi, fat16, NO NAME) is as it is: fat16 is not made smaller")
}

func TestLarger(t *testing.T) {
	t.Parallel()
	b := kiosk(t)
	for _, c := range []struct {
		name, grow string
		grown      int
	}{{"the last that it makes sense for", "", 5}, {"one that is named", "3", 3}, {"ntfs", "4", 4}, {"none", GrowNone, 0}} {
		t.Run(c.name, func(t *testing.T) {
			out, l := b.fit(t, Wish{Size: 500 * unit, Grow: c.grow})
			for _, p := range l.Parts {
				assert.Equal(t, p.Number == c.grown, p.Length > p.FromLength, p.Number)
				assert.Equal(t, p.Number == c.grown, p.Resized, p.Number)
			}
			if c.grown > 0 {
				last := l.Parts[len(l.Parts)-1]
				assert.InDelta(t, 500*unit, last.Offset+last.Length, 2*unit)
			}
			out.check(t, l, b)
		})
	}
	_, _, err := b.compute(t, Wish{Size: 500 * unit, Grow: "9"})
	require.ErrorIs(t, err, ErrSize)
}

// TestOtherShapes: an MBR with logical partitions, a disk that is one filesystem, XFS, sectors of 4096 bytes, and a loader that stays where it is.
func TestOtherShapes(t *testing.T) {
	t.Parallel()
	t.Run("mbr with logical partitions", func(t *testing.T) {
		b := build(t, 256*unit, "dos", []part{
			{"size=80MiB, type=83, bootable", "mkfs.ext4 -q -F", 20},
			{"size=100MiB, type=5", "", 0},
			{"size=40MiB, type=7", "mkfs.ntfs -Q -q -F", 0},
			{"start=172032, size=30MiB, type=83", "mkfs.ext4 -q -F", 10},
		})
		out, l := b.fit(t, Wish{Size: 190 * unit})
		out.check(t, l, b)
		assert.Len(t, out.ranges(t), 4)
		d, was := out.open(t), b.open(t)
		old, err := inspect.Part(was, 5)
		require.NoError(t, err)
		now, err := inspect.Part(d, 5)
		require.NoError(t, err, "logical partitions go with the extended one")
		_, err = inspect.SameFiles(t.Context(), old, now)
		require.NoError(t, err)
	})
	t.Run("one filesystem", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "disk.raw")
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 128*unit))
		runs(t, "mkfs.ext4", "-q", "-F", "-d", filled(t, 30), path)
		b := built{path, 128 * unit}
		for _, size := range []int64{60 * unit, 300 * unit} {
			out, l := b.fit(t, Wish{Size: size})
			runs(t, "e2fsck", "-f", "-n", out.path)
			assert.Equal(t, size, l.Size)
			assert.Positive(t, l.Parts[0].Files)
		}
	})
	t.Run("xfs", func(t *testing.T) {
		b := build(t, 400*unit, "gpt", []part{{"size=320MiB, type=L", "mkfs.xfs -q -f", 0}, {"size=40MiB, type=L", "mkfs.ext4 -q -F", 5}})
		out, l := b.fit(t, Wish{Size: 384 * unit})
		out.check(t, l, b)
		_, _, err := b.compute(t, Wish{Size: 300 * unit})
		require.ErrorContains(t, err, "xfs cannot become smaller: make a new filesystem and copy its files")
		if Able("xfs", false) == nil {
			out, l = b.fit(t, Wish{Size: 700 * unit, Grow: "1"})
			assert.True(t, l.Parts[0].Resized)
			out.check(t, l, b)
		}
	})
	t.Run("a loader that is found by where it lies", func(t *testing.T) {
		b := build(t, 256*unit, "gpt", []part{
			{
				"size=60MiB, type=L",
				"mkfs.ext4 -q -F",
				5,
			},
			{"size=1MiB, type=21686148-6449-6E6F-744E-656564454649", "", 0},
			{"size=150MiB, type=L", "mkfs.ext4 -q -F", 5},
		})
		for _, wish := range []Wish{{}, {Size: 400 * unit}} {
			out, l := b.fit(t, wish)
			assert.Equal(t, l.Parts[1].From, l.Parts[1].Offset)
			assert.False(t, l.Parts[0].Resized)
			assert.True(t, l.Parts[2].Resized)
			out.check(t, l, b)
		}
		_, _, err := b.compute(t, Wish{Size: 400 * unit, Grow: "1"})
		require.ErrorContains(t, err, "the loader lies behind it")
	})
	t.Run("nothing known", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "disk.raw")
		require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("x"), unit), 0o600))
		b := built{path, unit}
		_, _, err := b.compute(t, Wish{Size: unit / 2})
		require.ErrorIs(t, err, ErrSize)
		out, l := b.fit(t, Wish{Size: 2 * unit})
		assert.EqualValues(t, 2*unit, l.Size)
		content, err := os.ReadFile(out.path)
		require.NoError(t, err)
		assert.Equal(t, unit, bytes.Count(content, []byte("x")))
	})
}

// TestRandomLayouts: whatever the partitions are, they stay in order, inside of the disk, apart from each other, and none is shorter than it has to be.
func TestRandomLayouts(t *testing.T) {
	random := rand.New(rand.NewPCG(17, 4))
	able := func(kind string, smaller bool) error {
		if kind == "ext4" || !smaller && kind == "xfs" {
			return nil
		}
		return errors.New("it is not")
	}
	for range 3000 {
		c := inspect.Contents{Table: []string{"gpt", "mbr"}[random.IntN(2)], SectorSize: 512}
		at, left := int64(unit), map[int]bool{}
		least := map[int]int64{}
		for n := range 1 + random.IntN(4) {
			at += random.Int64N(3) * 512 * (1 + random.Int64N(5000))
			p := inspect.Partition{Number: n + 1, Offset: at, Length: 512 * (1 + random.Int64N(200_000)), Type: "Linux"}
			least[p.Number] = p.Length
			if kind := []string{"", "ext4", "xfs", "fat32"}[random.IntN(4)]; kind != "" {
				p.Filesystem = &inspect.Filesystem{Kind: kind, Size: p.Length, Used: random.Int64N(p.Length)}
				if kind == "ext4" {
					least[p.Number] = p.Filesystem.Used
				}
			}
			if random.IntN(8) == 0 {
				p.Type = inspect.TypeBIOSBoot
			} else if random.IntN(5) == 0 {
				left[p.Number], least[p.Number] = true, 1
			}
			at += p.Length
			c.Partitions = append(c.Partitions, p)
		}
		size := at + 64*unit + random.Int64N(1000)*512
		wish := Wish{Size: 512 * random.Int64N(3*size/512)}
		l, err := Compute(size, c, left, wish, able)
		var no *SizeError
		if errors.As(err, &no) {
			require.Less(t, wish.Size, no.Least)
			wish.Size = no.Least
			l, err = Compute(size, c, left, wish, able)
		}
		require.NoError(t, err)
		if wish.Size > 0 {
			require.Equal(t, wish.Size, l.Size)
		}
		var end int64
		for i, p := range l.Parts {
			require.GreaterOrEqual(t, p.Offset, end)
			require.Zero(t, (p.Offset-p.From)%unit, "whatever was aligned stays so")
			require.GreaterOrEqual(t, p.Length, least[p.Number])
			require.Equal(t, p.Length != p.FromLength && !p.Left, p.Resized || p.Note != "")
			if isFixed(c.Partitions[i]) {
				require.Equal(t, p.From, p.Offset)
				require.Equal(t, p.FromLength, p.Length)
			}
			end = p.Offset + p.Length
		}
		tail := int64(0)
		if c.Table == "gpt" {
			tail = gptTail(512)
		}
		require.LessOrEqual(t, end, l.Size-tail)
	}
}
