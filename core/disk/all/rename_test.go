package all

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestBasesGetNewNames: every layout that stands on a base finds it under a name that is shorter, longer, or in other letters; everything
// else in it stays.
func TestBasesGetNewNames(t *testing.T) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			if !l.Stands {
				continue
			}
			t.Run(f.Name+" "+l.Name, func(t *testing.T) {
				dir := t.TempDir()
				folder, err := local.Open(dir)
				require.NoError(t, err)
				defer folder.Close()
				ext := f.Extensions[0]
				to := disk.Target{Folder: folder, Size: parentSize, Name: "harbour" + ext, Layout: f.Layouts[0].Name}
				make := func(fill byte, off int64) {
					w, err := f.Create(to)
					require.NoError(t, err)
					_, err = w.WriteAt(bytes.Repeat([]byte{fill}, 2<<20), off)
					require.NoError(t, err)
					require.NoError(t, w.Commit(t.Context()))
				}
				make(0xba, 0)
				base, err := disk.Open(t.Context(), folder, to.Name, f.Name)
				require.NoError(t, err)
				to.Name, to.Layout, to.Base, to.BaseName = "top"+ext, l.Name, base, to.Name
				make(0x0f, 4<<20)
				require.NoError(t, base.Close())
				name := "harbour" + ext
				want := bytes.Repeat([]byte{0xba}, 2<<20)
				require.NotNil(t, f.Rename)
				for _, next := range []string{"h" + ext, "the lighthouse and its harbour " + strings.Repeat("x", 60) + ext, "Hafenmeister-\u00e4\u00f6" + ext, "harbour" + ext} {
					changed, err := f.RenameIn(folder, "top"+ext, map[string]string{"other" + ext: next})
					require.NoError(t, err)
					assert.False(t, changed, "it does not name that file")
					require.NoError(t, os.Rename(filepath.Join(dir, name), filepath.Join(dir, next)))
					_, err = disk.Open(t.Context(), folder, "top"+ext, f.Name)
					require.Error(t, err, "its base is gone")
					whole, err := os.ReadFile(filepath.Join(dir, "top"+ext))
					require.NoError(t, err)
					for n := 0; ; n++ { // interrupted behind each write, and done again
						require.NoError(t, os.WriteFile(filepath.Join(dir, "top"+ext), whole, 0o600))
						changed, err = f.RenameIn(&tearing{folder, n}, "top"+ext, map[string]string{name: next})
						if err == nil {
							assert.True(t, changed)
							require.NotZero(t, n)
							break
						}
						require.ErrorIs(t, err, errTorn)
						_, err = f.RenameIn(folder, "top"+ext, map[string]string{name: next})
						require.NoError(t, err)
						r, err := disk.Open(t.Context(), folder, "top"+ext, f.Name)
						require.NoError(t, err, "%d writes", n)
						require.NoError(t, r.Close())
					}
					r, err := disk.Open(t.Context(), folder, "top"+ext, f.Name)
					require.NoError(t, err)
					p := bytes.Clone(want)
					_, err = r.ReadAt(p, 0)
					require.NoError(t, err)
					assert.Equal(t, want, p)
					_, err = r.ReadAt(p, 4<<20)
					require.NoError(t, err)
					assert.Equal(t, bytes.Repeat([]byte{0x0f}, 2<<20), p)
					assert.Contains(t, r.Describe().Chain, next)
					if c, ok := r.(disk.Checker); ok {
						require.NoError(t, c.Check(t.Context()))
					}
					require.NoError(t, r.Close())
					name = next
				}
				_, err = f.RenameIn(folder, "top"+ext, map[string]string{name: strings.Repeat("long", 9000) + ext})
				if f.Name != "vmdk" { // whose text has no end
					require.ErrorContains(t, err, "choose a shorter one")
				}
				_, err = f.RenameIn(folder, name, map[string]string{name: "other" + ext})
				require.NoError(t, err, "a base names nothing")
				r, err := disk.Open(t.Context(), folder, name, f.Name)
				require.NoError(t, err)
				require.NoError(t, r.Close())
			})
		}
	}
}

// TestNamesInsideOfExtensions: a header may say that the base's name lies where an extension would begin.
func TestNamesInsideOfExtensions(t *testing.T) {
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	w, err := f.Create(disk.Target{Folder: folder, Name: "top.qcow2", Size: parentSize, Layout: "thin"})
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	patch(t, filepath.Join(dir, "top.qcow2"), func(b []byte) []byte {
		binary.BigEndian.PutUint64(b[8:], 116) // behind the header's 112 bytes
		binary.BigEndian.PutUint32(b[16:], 13)
		copy(b[116:], "harbour.qcow2")
		return b
	})
	changed, err := f.RenameIn(folder, "top.qcow2", map[string]string{"harbour.qcow2": "quay.qcow2"})
	require.NoError(t, err)
	assert.True(t, changed)
	_, err = disk.Open(t.Context(), folder, "top.qcow2", "qcow2")
	require.ErrorContains(t, err, `"quay.qcow2"`)
}

// TestNamesKeepToTheirRoom: some writers give the room of a locator in bytes, and what follows is not theirs.
func TestNamesKeepToTheirRoom(t *testing.T) {
	dir := parents(t, "vhd", disk.Options{})
	want, _, err := readAll(t, dir, "disk.vhd")
	require.NoError(t, err)
	patch(t, filepath.Join(dir, "disk.vhd"), func(b []byte) []byte {
		header := b[512:1536]
		copy(header[576+4:576+8], header[576+8:576+12]) // "Platform Data Space" is "Platform Data Length"
		binary.BigEndian.PutUint32(header[36:], 0)
		var sum uint32
		for _, c := range header {
			sum += uint32(c)
		}
		binary.BigEndian.PutUint32(header[36:], ^sum)
		return b
	})
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	f, err := disk.Lookup("vhd")
	require.NoError(t, err)
	_, err = f.RenameIn(folder, "disk.vhd", map[string]string{"base.vhd": "a longer name.vhd"})
	require.ErrorContains(t, err, "choose a shorter one")
	require.NoError(t, os.Rename(filepath.Join(dir, "base.vhd"), filepath.Join(dir, "b.vhd")))
	changed, err := f.RenameIn(folder, "disk.vhd", map[string]string{"base.vhd": "b.vhd"})
	require.NoError(t, err)
	assert.True(t, changed)
	got, _, err := readAll(t, dir, "disk.vhd")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got), "the content is as it was")
}

// tearing is a folder in whose files so many writes succeed.
type tearing struct {
	storage.Folder
	left int
}

var errTorn = errors.New("torn")

func (f *tearing) Reopen(name string) (storage.File, error) {
	file, err := f.Folder.Reopen(name)
	return tornFile{file, f}, err
}

type tornFile struct {
	storage.File
	folder *tearing
}

func (f tornFile) WriteAt(p []byte, off int64) (int, error) {
	if f.folder.left--; f.folder.left < 0 {
		return 0, errTorn
	}
	return f.File.WriteAt(p, off)
}

func (f tornFile) Truncate(size int64) error {
	if f.folder.left--; f.folder.left < 0 {
		return errTorn
	}
	return f.File.Truncate(size)
}

// TestVectorsGetNewNames: what hypervisors wrote has its content when all of its files are called otherwise.
func TestVectorsGetNewNames(t *testing.T) {
	v := loadVectors(t)
	several := []string{"qcow2-datafile-raw", "vmdk-2gbsparse-3ext", "chain3-qcow2-qcow2-raw", "chain3-qcow2-vmdk-vmdk", "vmdk-flat"}
	tested := 0
	for _, image := range v.Images {
		if !slices.Contains(several, image.ID) {
			continue
		}
		tested++
		t.Run(image.ID, func(t *testing.T) {
			dir := filepath.Join(v.dir, filepath.Dir(image.File))
			folder, err := local.Open(dir)
			require.NoError(t, err)
			defer folder.Close()
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			names := map[string]string{}
			for _, e := range entries {
				names[e.Name()] = "renamed at the quay " + e.Name()
			}
			changes := 0
			for from, to := range names {
				format, err := disk.Recognise(folder, from)
				require.NoError(t, os.Rename(filepath.Join(dir, from), filepath.Join(dir, to)))
				if err != nil { // an extent without marks
					continue
				}
				f, err := disk.Lookup(format)
				require.NoError(t, err)
				if f.Rename == nil {
					continue
				}
				changed, err := f.RenameIn(folder, to, names)
				require.NoError(t, err, from)
				if changed {
					changes++
				}
			}
			assert.NotZero(t, changes)
			r, err := disk.Open(t.Context(), folder, names[filepath.Base(image.File)], "")
			require.NoError(t, err)
			defer r.Close()
			require.NoError(t, r.(disk.Checker).Check(t.Context()))
			assert.Equal(t, image.SparseSHA256, sparseSum(t, r))
		})
	}
	assert.Equal(t, len(several), tested)
}
