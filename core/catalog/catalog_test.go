package catalog

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"sync/atomic"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counting counts how many files are opened.
type counting struct {
	storage.Folder
	opened atomic.Int64
}

func (c *counting) Open(name string) (storage.File, error) {
	c.opened.Add(1)
	return c.Folder.Open(name)
}

func scanner(t *testing.T, dir string) (*counting, *Scanner) {
	t.Helper()
	f, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	c := &counting{Folder: f}
	return c, &Scanner{Folder: c, Own: ".own", Format: func(_ context.Context, i storage.Info) (string, bool, error) {
		if disk.Claim(i.Name) == "" {
			return "", false, nil
		}
		format, err := disk.Recognise(c, i.Name)
		return format, true, err
	}}
}

func create(t *testing.T, dir, format, layout, name string, base disk.Reader, baseName string) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	f, err := disk.Lookup(format)
	require.NoError(t, err)
	w, err := f.Create(
		disk.Target{
			Folder:   folder,
			Name:     name,
			Size:     6 << 20,
			Layout:   layout,
			Options:  disk.Options{PieceSize: map[bool]int64{true: 2 << 20}[layout == "pieces" || layout == "split-sparse"]},
			Base:     base,
			BaseName: baseName,
		},
	)
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("ferry"), 1<<20)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
}

func put(t *testing.T, dir, name string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("x"), 0o600))
}

func TestFilesAreGroupedToDisks(t *testing.T) {
	dir := t.TempDir()
	create(t, dir, "raw", "pieces", "cargo.raw", nil, "")
	create(t, dir, "vmdk", "split-sparse", "crew/crew-roster.vmdk", nil, "")
	create(t, dir, "hdd", "expanding", "tide.hdd", nil, "")
	create(t, dir, "qcow2", "thin", "base.qcow2", nil, "")
	folder, err := local.Open(dir)
	require.NoError(t, err)
	base, err := disk.Open(t.Context(), folder, "base.qcow2", "")
	require.NoError(t, err)
	create(t, dir, "qcow2", "overlay", "top.qcow2", base, "base.qcow2")
	create(t, dir, "qcow2", "overlay", "lost.qcow2", base, "gone.qcow2")
	require.NoError(t, base.Close())
	for _, stray := range []string{"notes.txt", "gone.raw.bagtag", "crew/other-s004.vmdk"} {
		put(t, dir, stray)
	}
	put(t, dir, "top.qcow2.bagtag")
	put(t, dir, "cargo.raw.SHA256SUMS")
	put(t, dir, ".own/staging/1/half.qcow2")
	put(t, dir, "other.xml")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "crew/crew-roster.vmx"), []byte("scsi0:0.fileName = \"crew-roster.vmdk\"\n"), 0o600))

	c, s := scanner(t, dir)
	found, err := s.Scan(t.Context())
	require.NoError(t, err)
	by := map[string]Disk{}
	for _, d := range found.Disks {
		by[d.Path] = d
	}
	require.Contains(t, by, "cargo.raw.001", "%+v", found.Disks)
	assert.Len(t, by["cargo.raw.001"].Files, 3)
	assert.Equal(t, int64(6<<20), by["cargo.raw.001"].FileSize)
	assert.Len(t, by["crew/crew-roster.vmdk"].Files, 4)
	assert.Equal(t, "hdd", by["tide.hdd"].Format)
	assert.Equal(t, []string{"base.qcow2"}, by["top.qcow2"].Chain)
	assert.Equal(t, "top.qcow2.bagtag", by["top.qcow2"].Tag)
	assert.Contains(t, by["lost.qcow2"].Problem, `opening the base "gone.qcow2"`)
	assert.Equal(t, []string{"gone.qcow2"}, by["lost.qcow2"].Chain, "as far as names are known")
	assert.Less(t, by["top.qcow2"].FileSize, by["top.qcow2"].VirtualSize)
	var strays []string
	for _, f := range found.Strays {
		strays = append(strays, f.Name)
	}
	assert.Contains(t, strays, "notes.txt")
	assert.Contains(t, strays, "gone.raw.bagtag", "a tag without its disk")
	assert.NotContains(t, strays, "cargo.raw.SHA256SUMS")
	assert.Contains(t, strays, "other.xml", "it is no definition")
	require.Len(t, found.Machines, 1)
	assert.Equal(t, machine.Definition{Name: "crew-roster", Format: "vmx", Disks: []string{"crew-roster.vmdk"}}, found.Machines[0].Definition)
	assert.NotContains(t, strays, found.Machines[0].File.Name)
	assert.Contains(t, by["crew/other-s004.vmdk"].Problem, "", "an extent that nobody names")
	assert.Len(t, by, 7)

	// Nothing has changed: only what was broken is looked at again.
	s.Before = found
	before := c.opened.Load()
	again, err := s.Scan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, found, again)
	assert.Less(t, c.opened.Load()-before, int64(12))
	create(t, dir, "qcow2", "thin", "gone.qcow2", nil, "")
	mended, err := s.Scan(t.Context())
	require.NoError(t, err)
	for _, d := range mended.Disks {
		if d.Path == "lost.qcow2" {
			assert.Empty(t, d.Problem, "its base is there again")
		}
	}
}

// TestTenThousandDisks are looked through again without being opened.
func TestTenThousandDisks(t *testing.T) {
	dir := t.TempDir()
	for i := range 10_000 {
		name := filepath.Join(dir, fmt.Sprintf("deck-%02d", i%100), fmt.Sprintf("disk-%05d.raw", i))
		if i < 100 {
			require.NoError(t, os.Mkdir(filepath.Dir(name), 0o700))
		}
		require.NoError(t, os.WriteFile(name, nil, 0o600))
		require.NoError(t, os.Truncate(name, 1<<20))
	}
	c, s := scanner(t, dir)
	first, err := s.Scan(t.Context())
	require.NoError(t, err)
	require.Len(t, first.Disks, 10_000)
	before := c.opened.Load()
	s.Before = first
	second, err := s.Scan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, first, second)
	assert.Equal(t, before, c.opened.Load())
}

// itself is a folder with a hundred folders in it that are all like it.
type itself struct {
	storage.Folder
	asked int
}

func (f *itself) List(dir string) (infos []storage.Info, err error) {
	f.asked++
	for i := range 100 {
		infos = append(infos, storage.Info{Name: path.Join(dir, fmt.Sprintf("deck%02d", i)), IsDir: true})
	}
	return infos, nil
}

// TestAFolderThatContainsItself is looked through only so far, which is told.
func TestAFolderThatContainsItself(t *testing.T) {
	f := &itself{}
	c, err := Scanner{Folder: f}.Scan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, maxDirs, f.asked)
	require.NotEmpty(t, c.Missed)
	assert.LessOrEqual(t, len(c.Missed), maxMissed)
	assert.Contains(t, fmt.Sprint(c.Missed), "folders")
}

// TestAChangeWhoseTimeWasPutBack is seen all the same.
func TestAChangeWhoseTimeWasPutBack(t *testing.T) {
	dir := t.TempDir()
	create(t, dir, "qcow2", "thin", "tide.qcow2", nil, "")
	c, s := scanner(t, dir)
	var err error
	s.Before, err = s.Scan(t.Context())
	require.NoError(t, err)
	opened := c.opened.Load()
	_, err = s.Scan(t.Context())
	require.NoError(t, err)
	require.Equal(t, opened, c.opened.Load(), "nothing has changed")
	file := filepath.Join(dir, "tide.qcow2")
	info, err := os.Stat(file)
	require.NoError(t, err)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	copy(b, "torn")
	require.NoError(t, os.WriteFile(file, b, 0o600))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	found, err := s.Scan(t.Context())
	require.NoError(t, err)
	require.Len(t, found.Disks, 1)
	assert.NotEmpty(t, found.Disks[0].Problem)
}
