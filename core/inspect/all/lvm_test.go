package all

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// reader is an image as a disk of which a part is read.
type reader struct{ image }

func (r reader) Extent(off int64) (disk.Extent, error) {
	return disk.Extent{Off: off, Len: r.Size() - off}, nil
}
func (reader) Describe() disk.Description { return disk.Description{} }

// TestVolumesOfLVM: volumes that lie in one piece or in several, on a partition, are found with their filesystems and files; what nothing has, and what
// their filesystems do not use, is not read, nor is a volume that is left out.
func TestVolumesOfLVM(t *testing.T) {
	if _, err := exec.LookPath("pvcreate"); err != nil {
		t.Skip("pvcreate is missing")
	}
	l := loops.New(t, 400<<20, 512, "label: gpt\nstart=2MiB, size=397MiB, type=E6D6D379-F507-44C2-A23C-238F2A3DF928, name=\"pv\"\n")
	lvm := func(command string, args ...string) {
		t.Helper()
		l.Run(command, append([]string{
			"--driverloaded", "n", "--yes", "--config", `backup{backup=0 archive=0} devices{filter=["a|^` + l.Part(1) + `$|","r|.*|"]}`,
		}, args...)...)
	}
	lvm("pvcreate", l.Part(1))
	lvm("vgcreate", "deck-of-test", l.Part(1))
	create := []string{"--activate", "n", "--zero", "n", "--wipesignatures", "n"}
	lvm("lvcreate", append(create, "--size", "100M", "--name", "root", "deck-of-test")...)
	lvm("lvcreate", append(create, "--size", "60M", "--name", "data", "deck-of-test")...)
	lvm("lvextend", "--size", "+40M", "deck-of-test/root") // behind data: in two pieces

	const extent, begin = 4 << 20, 2<<20 + 1<<20 // of the first one
	want := map[string]map[string]string{}
	for name, where := range map[string][][2]int64{"root": {{0, 25}, {40, 10}}, "data": {{25, 15}}} {
		file, files := made(
			t,
			shape{name, "ext4", map[string]int64{"root": 140 << 20, "data": 60 << 20}[name], "mkfs.ext4 -q -F -L " + name, "e2fsck -fn", 100, false},
		)
		want[name] = files
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		f, err := os.OpenFile(l.Path, os.O_WRONLY, 0)
		require.NoError(t, err)
		for _, piece := range where {
			n := piece[1] * extent
			_, err := f.WriteAt(content[:n], begin+piece[0]*extent)
			require.NoError(t, err)
			content = content[n:]
		}
		require.NoError(t, f.Sync())
		require.NoError(t, f.Close())
	}
	f, err := os.Open(l.File)
	require.NoError(t, err)
	defer f.Close()
	d := reader{image{f}}
	found, err := inspect.Inside(d)
	require.NoError(t, err)
	assert.Empty(t, found.Warnings)
	volumes := found.Partitions[0].Filesystem.Volumes
	require.Len(t, volumes, 2)
	for i, name := range []string{"data", "root"} {
		assert.Equal(t, "deck-of-test/"+name, volumes[i].Name)
		require.NotNil(t, volumes[i].Filesystem)
		assert.Equal(t, name, volumes[i].Filesystem.Label)
	}
	assert.Equal(t, int64(140<<20), volumes[1].Size)
	read := func(d inspect.Disk, volume string) (map[string]string, error) {
		v, err := inspect.On(d, inspect.Spot{Volume: "deck-of-test/" + volume, Path: "."})
		if err != nil {
			return nil, err
		}
		return digests(t, v), nil
	}
	for name, files := range want {
		got, err := read(d, name)
		require.NoError(t, err)
		same(t, files, got)
	}
	_, err = read(d, "no-such")
	require.ErrorIs(t, err, fs.ErrNotExist)

	for _, c := range []struct {
		at     int64 // extent and offset in it, of the disk
		volume string
		says   string
	}{
		{begin + 25*extent + 8192, "deck-of-test/data", `on the volume deck-of-test/data, ext4 "data"`},
		{begin + 40*extent + 4096, "deck-of-test/root", `on the volume deck-of-test/root, ext4 "root"`},
		{begin + 60*extent, "", "in no volume of LVM on partition 1"},
		{2<<20 + 4096, "", "in no volume of LVM on partition 1"},
	} {
		hits := inspect.Hits(t.Context(), d, []fingerprint.Range{{Offset: c.at, Length: 4096}}, true)
		require.Len(t, hits, 1)
		assert.Equal(t, c.volume, hits[0].Volume)
		assert.Contains(t, hits[0].What, c.says)
		assert.Equal(t, fingerprint.Range{Offset: c.at, Length: 4096}, hits[0].Range)
	}
	v, err := inspect.On(d, inspect.Spot{Volume: "deck-of-test/root", Path: "."})
	require.NoError(t, err)
	first := make([]byte, 25*extent) // piece of root; data has the same files
	_, err = d.ReadAt(first, begin)
	require.NoError(t, err)
	const block = 1024 // of a small ext4
	named := 0
	require.NoError(t, fs.WalkDir(v, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || named == 5 {
			return err
		}
		content, err := fs.ReadFile(v, name)
		if err != nil || len(content) < block || bytes.Count(first, content[:block]) != 1 {
			return err // there twice, and content does not tell whose it is; or in the other piece
		}
		at := begin + int64(bytes.Index(first, content[:block]))
		named++
		hits := inspect.Hits(t.Context(), d, []fingerprint.Range{{Offset: at, Length: 512}}, true)
		require.Len(t, hits, 1)
		assert.Contains(t, hits[0].Files, name)
		return nil
	}))
	assert.Positive(t, named, "files in volumes are named")

	k, err := inspect.Skim(t.Context(), d, inspect.Selection{UsedOnly: true, Without: []string{"deck-of-test/data"}})
	require.NoError(t, err)
	require.Len(t, k.Shares, 3)
	assert.Equal(t, int64(196<<20), k.Shares[0].Skipped, "49 extents are nobody's")
	assert.True(t, k.Shares[1].Left)
	assert.Greater(t, k.Shares[2].Skipped, int64(60<<20))
	copied := filepath.Join(t.TempDir(), "copy")
	b := make([]byte, d.Size())
	_, err = k.ReadAt(b, 0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(copied, b, 0o600))
	c, err := os.Open(copied)
	require.NoError(t, err)
	defer c.Close()
	got, err := read(image{c}, "root")
	require.NoError(t, err)
	same(t, want["root"], got)
	_, err = read(image{c}, "data")
	require.ErrorContains(t, err, "no filesystem that is known")
	assert.Equal(t, make([]byte, extent), b[begin+25*extent:begin+26*extent])
	assert.True(t, bytes.Contains(b[:4<<20], []byte("deck-of-test")), "what LVM says stays")
	for i := range k.Shares {
		k.Shares[i].Check(t.Context(), image{c})
	}
	assert.Equal(t, inspect.StateClean, k.Shares[2].State)
}
