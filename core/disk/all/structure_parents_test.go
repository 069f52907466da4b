package all

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"
	"unicode/utf16"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// parents is a folder with base.EXT, all of 0xba, and disk.EXT on it, which has 0x0f from 2 to 4 MiB.
func parents(t *testing.T, format string, o disk.Options) string {
	t.Helper()
	f, err := disk.Lookup(format)
	require.NoError(t, err)
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	to := disk.Target{Folder: folder, Size: parentSize, Options: o}
	commit := func(name string, fill byte, off, n int64) {
		to.Name, to.Identifier = name, [16]byte{fill}
		w, err := f.Create(to)
		require.NoError(t, err)
		_, err = w.WriteAt(bytes.Repeat([]byte{fill}, int(n)), off)
		require.NoError(t, err)
		require.NoError(t, w.Commit(t.Context()))
	}
	to.Layout = f.Layouts[0].Name
	commit("base"+f.Extensions[0], 0xba, 0, parentSize)
	if format == "vdi" { // which is not written on a base
		commit("disk.vdi", 0x0f, 2<<20, 2<<20)
		return dir
	}
	base, err := disk.Open(t.Context(), folder, "base"+f.Extensions[0], "")
	require.NoError(t, err)
	defer base.Close()
	to.Layout, to.Base, to.BaseName = "differencing", base, "base"+f.Extensions[0]
	commit("disk"+f.Extensions[0], 0x0f, 2<<20, 2<<20)
	return dir
}

const parentSize = 8 << 20

// patch changes the file in place.
func patch(t *testing.T, name string, change func(b []byte) []byte) {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, change(b), 0o600))
}

func readAll(t *testing.T, dir, name string) ([]byte, disk.Description, error) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, name, "")
	if err != nil {
		return nil, disk.Description{}, err
	}
	defer r.Close()
	require.NoError(t, r.(disk.Checker).Check(t.Context()))
	var stored int64
	require.NoError(t, disk.Extents(t.Context(), r, func(e disk.Extent) error {
		if e.Kind == disk.Data {
			stored += e.Len
		}
		return nil
	}))
	assert.EqualValues(t, parentSize, stored, "the base is all data")
	p := make([]byte, r.Size())
	_, err = r.ReadAt(p, 0)
	return p, r.Describe(), err
}

func filled(change func(b []byte)) []byte {
	b := bytes.Repeat([]byte{0xba}, parentSize)
	copy(b[2<<20:], bytes.Repeat([]byte{0x0f}, 2<<20))
	change(b)
	return b
}

// TestVHDSectorsOfTheParent: a bit of the bitmap that is not set means the parent, sector by sector.
func TestVHDSectorsOfTheParent(t *testing.T) {
	dir := parents(t, "vhd", disk.Options{})
	name := filepath.Join(dir, "disk.vhd")
	patch(t, name, func(b []byte) []byte {
		be := binary.BigEndian
		footer, h := b[len(b)-512:], b[512:][:1024]
		require.EqualValues(t, 4, be.Uint32(footer[60:]), "differencing")
		require.Equal(t, onesComplement(h, 36), be.Uint32(h[36:]))
		require.Equal(t, append([]byte{0xba}, make([]byte, 15)...), h[40:56], "the parent's identifier")
		locator := h[576:]
		require.EqualValues(t, 0x57327275, be.Uint32(locator))
		text := b[be.Uint64(locator[16:]):][:be.Uint32(locator[8:])]
		var units []uint16
		for ; len(text) > 0; text = text[2:] {
			units = append(units, binary.LittleEndian.Uint16(text))
		}
		require.Equal(t, `.\base.vhd`, string(utf16.Decode(units)))
		bitmap := uint64(be.Uint32(b[be.Uint64(h[16:])+4:])) * 512 // of block 1
		b[bitmap] = 0b0111_1110                                    // sectors 0 and 7
		b[bitmap+511] = 0
		return b
	})
	got, about, err := readAll(t, dir, "disk.vhd")
	require.NoError(t, err)
	assert.Equal(t, "differencing", about.Layout)
	assert.Equal(t, []string{"base.vhd"}, about.Chain)
	assert.True(t, bytes.Equal(filled(func(b []byte) {
		for _, sector := range []int{0, 7, 4088, 4089, 4090, 4091, 4092, 4093, 4094, 4095} {
			copy(b[2<<20+sector*512:], bytes.Repeat([]byte{0xba}, 512))
		}
	}), got))

	// Another disk under the parent's name.
	patch(t, filepath.Join(dir, "base.vhd"), func(b []byte) []byte {
		for _, footer := range [][]byte{b[:512], b[len(b)-512:]} {
			footer[70]++
			binary.BigEndian.PutUint32(footer[64:], onesComplement(footer, 64))
		}
		return b
	})
	_, _, err = readAll(t, dir, "disk.vhd")
	require.ErrorIs(t, err, disk.ErrDamaged)
	require.ErrorContains(t, err, "another disk")
}

// TestVHDXSectorsOfTheParent: a block that is partly present has its sectors in the bitmap behind its chunk's entries.
func TestVHDXSectorsOfTheParent(t *testing.T) {
	for _, sector := range []int64{512, 4096} {
		dir := parents(t, "vhdx", disk.Options{SectorSize: sector})
		name := filepath.Join(dir, "disk.vhdx")
		perBlock := (1 << 20) / sector
		patch(t, name, func(b []byte) []byte {
			le := binary.LittleEndian
			const table = 3 << 20
			ratio := uint64(8<<20*sector) >> 20
			entry := b[table+8*2:] // of block 2
			require.EqualValues(t, 6, le.Uint64(entry)&7, "blocks are stored whole")
			le.PutUint64(entry, le.Uint64(entry)&^7|7)
			le.PutUint64(b[table+8*ratio:], uint64(len(b))|6)
			bitmap := make([]byte, 1<<20)
			for i := 3; i < int(perBlock)-5; i++ {
				at := 2*int(perBlock) + i
				bitmap[at/8] |= 1 << (at % 8)
			}
			return append(b, bitmap...)
		})
		got, about, err := readAll(t, dir, "disk.vhdx")
		require.NoError(t, err)
		assert.Equal(t, "differencing", about.Layout)
		assert.Equal(t, sector, about.SectorSize)
		assert.True(t, bytes.Equal(filled(func(b []byte) {
			copy(b[2<<20:], bytes.Repeat([]byte{0xba}, int(3*sector)))
			copy(b[3<<20-5*sector:], bytes.Repeat([]byte{0xba}, int(5*sector)))
		}), got))

		// The parent was written to meanwhile: then it has another GUID.
		patch(t, filepath.Join(dir, "base.vhdx"), func(b []byte) []byte {
			for _, at := range []int{64 << 10, 128 << 10} {
				header := b[at : at+4<<10]
				header[32]++
				clear(header[4:8])
				binary.LittleEndian.PutUint32(header[4:], crc32.Checksum(header, crc32.MakeTable(crc32.Castagnoli)))
			}
			return b
		})
		_, _, err = readAll(t, dir, "disk.vhdx")
		require.ErrorIs(t, err, disk.ErrDamaged)
		require.ErrorContains(t, err, "changed since")
	}
}

// TestVDIFindsItsParent by its UUID: beside it, or anywhere in the pool.
func TestVDIFindsItsParent(t *testing.T) {
	dir := parents(t, "vdi", disk.Options{})
	name := filepath.Join(dir, "disk.vdi")
	patch(t, name, func(b []byte) []byte {
		base, err := os.ReadFile(filepath.Join(dir, "base.vdi"))
		require.NoError(t, err)
		binary.LittleEndian.PutUint32(b[76:], 4)
		copy(b[424:440], base[392:408])
		copy(b[440:456], base[408:424])
		binary.LittleEndian.PutUint32(b[1<<20+4*7:], 0xfffffffe) // zeros that hide the parent
		return b
	})
	want := filled(func(b []byte) { clear(b[7<<20:]) })
	check := func() error {
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
		r, err := disk.Open(t.Context(), folder, "disk.vdi", "")
		if err != nil {
			return err
		}
		defer r.Close()
		got := make([]byte, parentSize)
		_, err = r.ReadAt(got, 0)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got))
		assert.Equal(t, "differencing", r.Describe().Layout)
		return r.(disk.Checker).Check(t.Context())
	}
	require.NoError(t, check())
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "old", "bases"), 0o700))
	moved := filepath.Join(dir, "old", "bases", "quay.vdi")
	require.NoError(t, os.Rename(filepath.Join(dir, "base.vdi"), moved))
	require.NoError(t, check())
	patch(t, moved, func(b []byte) []byte { b[410]++; return b })
	require.ErrorContains(t, check(), "changed since")
	require.NoError(t, os.Remove(moved))
	require.ErrorContains(t, check(), "not in its folder or pool")
}

// TestPiecesBelongTogether: what is missing, cut or not the first is told.
func TestPiecesBelongTogether(t *testing.T) {
	l := row(t, "raw", "pieces", disk.Options{PieceSize: 1 << 20})
	c := content{size: 3<<20 + 1000, pieces: []piece{{1 << 20, noise(1, 2<<20)}}}
	open := func(change func(dir string), name string) error {
		dir := t.TempDir()
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
		write(t, folder, l, c)
		change(dir)
		r, err := disk.Open(t.Context(), folder, name, "")
		if err != nil {
			return err
		}
		defer r.Close()
		assert.Equal(t, c.size, r.Size())
		assert.Equal(t, "pieces", r.Describe().Layout)
		return nil
	}
	nothing := func(string) {}
	require.NoError(t, open(nothing, "disk.raw.001"))
	require.NoError(t, open(nothing, "disk.raw"), "the name of all together")
	require.ErrorContains(t, open(nothing, "disk.raw.003"), "open the first one, disk.raw.001")
	require.ErrorContains(
		t,
		open(func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "disk.raw.003"))) }, "disk.raw.001"),
		"disk.raw.003 is missing",
	)
	require.ErrorContains(
		t,
		open(func(dir string) { require.NoError(t, os.Truncate(filepath.Join(dir, "disk.raw.002"), 1000)) }, "disk.raw.001"),
		"truncated",
	)
	require.NoError(t, open(func(dir string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "disk.raw.note"), nil, 0o600))
	}, "disk.raw.001"))
}
