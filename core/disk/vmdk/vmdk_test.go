package vmdk

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDescriptorsAsTheyAreMet(t *testing.T) {
	const plain = "# Disk DescriptorFile\nversion=1\nCID=5ac1847\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\nRW 2048 FLAT \"a-flat.vmdk\" 0\n"
	for name, text := range map[string]string{
		"plain":            plain,
		"line ends":        strings.ReplaceAll(plain, "\n", "\r\n"),
		"old line ends":    strings.ReplaceAll(plain, "\n", "\r"),
		"spaces":           strings.ReplaceAll(strings.ReplaceAll(plain, "=", "  =\t"), "RW 2048 FLAT", "  RW   2048\tFLAT  "),
		"padded":           plain + strings.Repeat("\x00", 300) + "RW 7 FLAT \"not this\" 0\n",
		"no last line end": strings.TrimSuffix(plain, "\n"),
		"other keys":       "\xff\xfe bytes\n" + plain + "ddb.toolsVersion = \"7\"\nchangeTrackPath=\"x\"\n# a remark\n",
		"capitals":         strings.ReplaceAll(strings.ReplaceAll(plain, "CID", "cid"), "RW", "rw"),
	} {
		d, err := parseDescriptor([]byte(text))
		require.NoError(t, err, name)
		assert.EqualValues(t, 0x5ac1847, d.cid, name)
		assert.EqualValues(t, noParent, d.parentCID, name)
		assert.Equal(t, "monolithicFlat", d.kind, name)
		assert.Equal(t, []extentLine{{2048, "FLAT", "a-flat.vmdk", 0}}, d.extents, name)
	}
	for name, text := range map[string]string{
		"empty":                  "",
		"no mark":                strings.TrimPrefix(plain, "# Disk"),
		"no extent":              strings.ReplaceAll(plain, "RW", "XX"),
		"no sectors":             strings.ReplaceAll(plain, "2048", "0"),
		"many sectors":           strings.ReplaceAll(plain, "2048", "99999999999999999999"),
		"bad id":                 strings.ReplaceAll(plain, "5ac1847", "ferry"),
		"junk behind the offset": strings.ReplaceAll(plain, "\" 0\n", "\" 0x\n"),
		"an offset below 0":      strings.ReplaceAll(plain, "\" 0\n", "\" -7\n"),
		"a line of something":    plain + "= nothing\n",
		"half an extent":         plain + "RW 2048\n",
		"many extents":           plain + strings.Repeat("RW 1 ZERO\n", maxExtents),
	} {
		_, err := parseDescriptor([]byte(text))
		require.ErrorIs(t, err, disk.ErrDamaged, name)
	}
}

// put writes files into a fresh folder.
func put(t *testing.T, files map[string][]byte) *local.Folder {
	t.Helper()
	dir := t.TempDir()
	for name, b := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o600))
	}
	folder, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	return folder
}

func text(parent string, lines ...string) []byte {
	return []byte(textMark + "\nCID=00000007\nparentCID=" + parent + "\n" + strings.Join(lines, "\n") + "\n")
}

func TestExtentsOfAllKindsMakeOneDisk(t *testing.T) {
	ones, twos := bytes.Repeat([]byte{1}, 64<<10), bytes.Repeat([]byte{2}, 32<<10)
	folder := put(t, map[string][]byte{
		"disk.vmdk": text(
			"ffffffff",
			`RW 64 FLAT "both" 64`,
			`RW 8 ZERO`,
			`RW 64 VMFS "other"`,
			`RW 64 FLAT "both" 0`,
			`NOACCESS 8 FLAT "gone" 0`,
		),
		"both":  append(append([]byte{}, twos...), ones...),
		"other": ones,
	})
	r, err := disk.Open(t.Context(), folder, "disk.vmdk", "")
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, "split-flat", r.Describe().Layout)
	assert.Equal(t, []string{"disk.vmdk", "both", "other"}, r.Describe().Files)
	want := append(
		append(append(append(append([]byte{}, ones[:64*512]...), make([]byte, 8*512)...), ones[:64*512]...), twos...),
		make([]byte, 8*512)...)
	require.EqualValues(t, len(want), r.Size())
	got := make([]byte, len(want))
	_, err = r.ReadAt(got, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	var kinds []string
	require.NoError(t, disk.Extents(t.Context(), r, func(e disk.Extent) error {
		kinds = append(kinds, fmt.Sprintf("%s %d", e.Kind, e.Len/512))
		return nil
	}))
	assert.Equal(t, []string{"data 64", "zero 8", "data 128", "zero 8"}, kinds)
}

// TestNamesInOtherEncodings: the descriptor says which one it is in.
func TestNamesInOtherEncodings(t *testing.T) {
	folder := put(t, map[string][]byte{
		"disk.vmdk":  text("ffffffff", `encoding="windows-1252"`, "RW 8 FLAT \"f\xe4hre.vmdk\" 0"),
		"fähre.vmdk": make([]byte, 8*512),
	})
	r, err := disk.Open(t.Context(), folder, "disk.vmdk", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"disk.vmdk", "fähre.vmdk"}, r.Describe().Files)
	require.NoError(t, r.Close())
}

func TestExtentsThatCannotBe(t *testing.T) {
	for name, lines := range map[string][]string{
		"too short":    {`RW 65 FLAT "file" 0`},
		"behind it":    {`RW 1 FLAT "file" 64`},
		"missing":      {`RW 1 FLAT "gone" 0`},
		"outside":      {`RW 1 FLAT "../file" 0`},
		"absolute":     {`RW 1 FLAT "/etc/passwd" 0`},
		"a device":     {`RW 1 VMFSRDM "file"`},
		"not a sparse": {`RW 1 SPARSE "file"`},
	} {
		folder := put(t, map[string][]byte{"disk.vmdk": text("ffffffff", lines...), "file": make([]byte, 64*512)})
		_, err := disk.Open(t.Context(), folder, "disk.vmdk", "")
		require.Error(t, err, name)
	}
}

// TestDeltaOnItsParent: holes show the parent; a parent that has changed is not trusted.
func TestDeltaOnItsParent(t *testing.T) {
	const size = 4 << 20
	sparseFile := func(folder *local.Folder, name string, fill byte, at int64) {
		w, err := create(disk.Target{Folder: folder, Name: name, Size: size, Layout: sparse, Identifier: [16]byte{fill}})
		require.NoError(t, err)
		_, err = w.WriteAt(bytes.Repeat([]byte{fill}, 128<<10), at)
		require.NoError(t, err)
		require.NoError(t, w.Commit(t.Context()))
	}
	folder := put(t, nil)
	sparseFile(folder, "parent.vmdk", 5, 0)
	sparseFile(folder, "child-s.vmdk", 6, 64<<10)
	descriptor := func(cid string) []byte {
		return text(cid, `parentFileNameHint="parent.vmdk"`, fmt.Sprintf(`RW %d SPARSE "child-s.vmdk"`, size/512))
	}
	dir := t.TempDir()
	for _, name := range []string{"parent.vmdk", "child-s.vmdk"} {
		f, err := folder.Open(name)
		require.NoError(t, err)
		n, err := f.Size()
		require.NoError(t, err)
		b := make([]byte, n)
		_, err = f.ReadAt(b, 0)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "child.vmdk"), descriptor("00000005"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stray.vmdk"), descriptor("00000009"), 0o600))
	both, err := local.Open(dir)
	require.NoError(t, err)
	defer both.Close()
	r, err := disk.Open(t.Context(), both, "child.vmdk", "")
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, "delta", r.Describe().Layout)
	assert.Equal(t, "parent.vmdk", r.Describe().Base)
	got := make([]byte, 256<<10)
	_, err = r.ReadAt(got, 0)
	require.NoError(t, err)
	want := make([]byte, 256<<10)
	copy(want, bytes.Repeat([]byte{5}, 128<<10))
	copy(want[64<<10:], bytes.Repeat([]byte{6}, 128<<10))
	assert.True(t, bytes.Equal(want, got))
	_, err = disk.Open(t.Context(), both, "stray.vmdk", "")
	require.ErrorIs(t, err, disk.ErrDamaged)
	require.ErrorContains(t, err, "has changed since this disk was put on it")
}

// TestTablesReachTheEnd: a file in which nothing shrinks or is left out is not longer than 32 bits of sectors reach.
func TestTablesReachTheEnd(t *testing.T) {
	f, err := disk.Lookup("vmdk")
	require.NoError(t, err)
	for _, name := range []string{sparse, stream, delta} {
		l, err := f.Layout(name)
		require.NoError(t, err)
		assert.LessOrEqual(t, l.FileSize(l.Largest, disk.Options{}, disk.Stored{grain: up(l.Largest, grain)}), int64(largestFile), name)
	}
}
