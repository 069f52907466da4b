package qcow2

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/raw"
	_ "bagaglio/core/disk/vhd"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// stack makes an image of that size in dir which has a cluster of 0x0f at 1 MiB, and puts it on a base.
func stack(t *testing.T, dir, name string, size int64, base string) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	w, err := create(disk.Target{Folder: folder, Name: name, Size: size, Layout: thin})
	require.NoError(t, err)
	_, err = w.WriteAt(bytes.Repeat([]byte{0x0f}, defaultCluster), mib)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	path := filepath.Join(dir, name)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	binary.BigEndian.PutUint64(b[8:], 512)
	binary.BigEndian.PutUint32(b[16:], uint32(len(base)))
	copy(b[512:], base)
	require.NoError(t, os.WriteFile(path, b, 0o600))
}

// TestOverlayOnABase that is shorter, longer or as long: a hole shows the base, or zeros behind its end.
func TestOverlayOnABase(t *testing.T) {
	const size = 4 * mib
	for _, baseSize := range []int64{0, mib + 512, 2*mib + 700, size, 9 * mib} {
		t.Run(fmt.Sprint(baseSize), func(t *testing.T) {
			dir := t.TempDir()
			base := bytes.Repeat([]byte{0xba}, int(baseSize))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "base.raw"), base, 0o600))
			stack(t, dir, "top.qcow2", size, "base.raw")
			folder, err := local.Open(dir)
			require.NoError(t, err)
			defer folder.Close()
			r, err := disk.Open(t.Context(), folder, "top.qcow2", "")
			require.NoError(t, err)
			defer r.Close()
			require.EqualValues(t, size, r.Size())
			assert.Equal(t, overlay, r.Describe().Layout)
			want := make([]byte, size)
			copy(want, base)
			copy(want[mib:], bytes.Repeat([]byte{0x0f}, defaultCluster))
			got := make([]byte, size)
			_, err = r.ReadAt(got, 0)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want, got))
			var data int64
			require.NoError(t, disk.Extents(t.Context(), r, func(e disk.Extent) error {
				if e.Kind == disk.Data {
					data += e.Len
				}
				return nil
			}))
			assert.GreaterOrEqual(t, data, min(baseSize, size), "the base's data is data")
		})
	}
}

func TestBasesThatAreNotOpened(t *testing.T) {
	dir := t.TempDir()
	sub := filepath.Join(dir, "ships")
	require.NoError(t, os.Mkdir(sub, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "above.raw"), make([]byte, mib), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(sub, "broken.qcow2"), make([]byte, mib), 0o600))
	for base, says := range map[string]string{
		"../above.raw": "leads out of its folder", filepath.Join(dir, "above.raw"): "leads out of its folder", "http://quay/x": "not the name of a file",
		"json:{}": "not the name of a file", "gone.raw": "no such file", "top.qcow2": "comes back to itself", "broken.qcow2": "no marks of qcow2", "a\nb": "no such file",
	} {
		require.NoError(t, os.RemoveAll(filepath.Join(sub, "top.qcow2")))
		stack(t, sub, "top.qcow2", 2*mib, base)
		folder, err := local.Open(sub)
		require.NoError(t, err)
		_, err = disk.Open(t.Context(), folder, "top.qcow2", "")
		require.ErrorContains(t, err, says, base)
		require.NoError(t, folder.Close())
	}
	// Seen from the folder above, the base is in it, and its name is relative to the image.
	require.NoError(t, os.Remove(filepath.Join(sub, "top.qcow2")))
	stack(t, sub, "top.qcow2", 2*mib, "../above.raw")
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, "ships/top.qcow2", "")
	require.NoError(t, err)
	require.NoError(t, r.Close())
}

// TestOverlayOnOtherFormats: the base's format is named where all readers have one name for it, and read whatever it is named.
func TestOverlayOnOtherFormats(t *testing.T) {
	for _, c := range []struct{ base, named string }{{"base.raw", "raw"}, {"base.vhd", ""}} {
		dir := t.TempDir()
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
		f, err := disk.Lookup(disk.Claim(c.base))
		require.NoError(t, err)
		w, err := f.Create(disk.Target{Folder: folder, Name: c.base, Size: 4 * mib, Layout: f.Layouts[0].Name})
		require.NoError(t, err)
		_, err = w.WriteAt([]byte("Isola Ferries"), 2*mib)
		require.NoError(t, err)
		require.NoError(t, w.Commit(t.Context()))
		base, err := disk.Open(t.Context(), folder, c.base, "")
		require.NoError(t, err)
		defer base.Close()
		w, err = create(disk.Target{Folder: folder, Name: "top.qcow2", Size: 4 * mib, Layout: overlay, Base: base, BaseName: c.base})
		require.NoError(t, err)
		require.NoError(t, w.Commit(t.Context()))
		b, err := os.ReadFile(filepath.Join(dir, "top.qcow2"))
		require.NoError(t, err)
		h, err := decodeHeader(b[:defaultCluster])
		require.NoError(t, err)
		assert.Equal(t, c.named, h.baseFormat)
		if c.named != "" { // as somebody else calls it
			b = bytes.Replace(b, append([]byte{0, 0, 0, 3}, c.named...), append([]byte{0, 0, 0, 3}, "img"...), 1)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "top.qcow2"), b, 0o600))
		}
		r, err := disk.Open(t.Context(), folder, "top.qcow2", "")
		require.NoError(t, err)
		defer r.Close()
		got := make([]byte, 13)
		_, err = r.ReadAt(got, 2*mib)
		require.NoError(t, err)
		assert.Equal(t, "Isola Ferries", string(got))
	}
}
