package vhd

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// image makes a dynamic or fixed image with some content, lets spoil change its bytes, and opens it.
func image(t *testing.T, layout string, spoil func([]byte) []byte) (disk.Reader, error) {
	t.Helper()
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	w, err := create(disk.Target{Folder: folder, Name: "disk.vhd", Size: 5 << 20, Layout: layout})
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("Isola Ferries"), 3<<20)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	path := filepath.Join(dir, "disk.vhd")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, spoil(b), 0o600))
	return disk.Open(t.Context(), folder, "disk.vhd", "")
}

func TestDamageThatCanBeRead(t *testing.T) {
	for name, c := range map[string]struct {
		layout string
		spoil  func([]byte) []byte
		warns  string
	}{
		"nothing":             {dynamic, func(b []byte) []byte { return b }, ""},
		"the footer is lost":  {dynamic, func(b []byte) []byte { clear(b[len(b)-512:]); return b }, "its copy at the start is used"},
		"the footer is cut":   {dynamic, func(b []byte) []byte { return b[:len(b)-512] }, "its copy at the start is used"},
		"the footer is wrong": {dynamic, func(b []byte) []byte { b[len(b)-300] ^= 1; return b }, "its copy at the start is used"},
		"the copy is lost":    {dynamic, func(b []byte) []byte { clear(b[:512]); return b }, ""},
		"511 bytes of footer": {fixed, func(b []byte) []byte { return b[:len(b)-1] }, ""},
		"geometry of another size": {dynamic, func(b []byte) []byte {
			f, err := decodeFooter(b[:512])
			require.NoError(t, err)
			f.Geometry = geometry{100, 4, 17}
			copy(b[len(b)-512:], f.encode())
			return b
		}, "cut the disk there"},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := image(t, c.layout, c.spoil)
			require.NoError(t, err)
			defer r.Close()
			got := make([]byte, 13)
			_, err = r.ReadAt(got, 3<<20)
			require.NoError(t, err)
			assert.Equal(t, "Isola Ferries", string(got))
			if c.warns == "" {
				assert.Empty(t, r.Describe().Warnings)
			} else {
				require.Len(t, r.Describe().Warnings, 1)
				assert.Contains(t, r.Describe().Warnings[0], c.warns)
			}
		})
	}
}

func TestDamageThatCannotBeRead(t *testing.T) {
	for name, spoil := range map[string]func([]byte) []byte{
		"both footers":   func(b []byte) []byte { b[100] ^= 1; b[len(b)-400] ^= 1; return b },
		"the header":     func(b []byte) []byte { b[600] ^= 1; return b },
		"all but a part": func(b []byte) []byte { return b[:700] },
	} {
		_, err := image(t, dynamic, spoil)
		require.ErrorIs(t, err, disk.ErrDamaged, name)
	}
	_, err := image(t, fixed, func(b []byte) []byte { return b[1<<20:] })
	require.ErrorContains(t, err, "truncated")
}

func TestBlocksThatShareBytes(t *testing.T) {
	r, err := image(t, dynamic, func(b []byte) []byte {
		table := b[1536:]
		copy(table[:4], table[4:8]) // the first block lies where the second one does
		return b
	})
	require.NoError(t, err)
	defer r.Close()
	require.ErrorContains(t, r.(disk.Checker).Check(t.Context()), "share the bytes")
}

// TestBothSizeRules: all of the disk is read, unless somebody asks for what the geometry shows.
func TestBothSizeRules(t *testing.T) {
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	const size = 10_486_272
	w, err := create(disk.Target{Folder: folder, Name: "disk.vhd", Size: size, Layout: fixed})
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	path := filepath.Join(dir, "disk.vhd")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	f, err := decodeFooter(b[size:])
	require.NoError(t, err)
	f.Geometry = calculated(size / sectorSize)
	require.NoError(t, os.WriteFile(path, append(b[:size], f.encode()...), 0o600))
	for byGeometry, sizes := range map[bool][2]int64{false: {size, 10_479_616}, true: {10_479_616, size}} {
		r, err := disk.Origin{Folder: folder, Name: "disk.vhd", ByGeometry: byGeometry}.Open(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, sizes, [2]int64{r.Size(), r.Describe().OtherSize})
		require.NoError(t, r.Close())
	}
}

// TestGeometry: a calculated geometry is never larger than the disk, and falls short of it by less than a cylinder.
func TestGeometry(t *testing.T) {
	assert.Equal(t, geometry{302, 4, 17}, calculated(10_514_432/sectorSize))
	assert.Equal(t, geometry{65535, 16, 255}, calculated(1<<40/sectorSize))
	for _, size := range []int64{8 << 20, 256 << 20, 500 << 20, 1 << 30, 8 << 30, 100 << 30} {
		g := calculated(size / sectorSize)
		assert.LessOrEqual(t, g.size(), size)
		assert.Greater(t, g.size(), size-int64(g.heads)*int64(g.sectors)*sectorSize, "%d", size)
	}
	assert.Equal(t, geometry{302, 4, 17}, geometryFor(10_514_432))
	assert.Equal(t, geometry{65535, 16, 255}, geometryFor(10_486_272), "a size that no geometry expresses")
}
