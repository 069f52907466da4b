package volumes_test

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/sftp"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/testkit/sshd"
	group "bagaglio/internal/testkit/volumes"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const unit = 4 << 20

// each runs a test for volumes of this computer and of another one, thick and thin.
func each(t *testing.T, test func(t *testing.T, g *group.Group, f *volumes.Folder, thin bool)) {
	for _, c := range []struct {
		name, set   string
		there, thin bool
	}{
		{"lvm", "lvm:isola", false, false}, {"lvm thin", "lvm:isola/tides", false, true}, {"lvm over ssh", "lvm:isola", true, false},
		{"zfs", "zfs:isola-zfs", false, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			name := "isola"
			if strings.HasPrefix(c.set, "zfs:") {
				name = "isola-zfs"
			}
			g := group.New(t, name, 400<<20)
			if name != "isola" {
				g.AsZFS(t)
			}
			dir := t.TempDir()
			var beside storage.Folder
			var on volumes.Computer = blocks.Here{}
			var err error
			if c.there {
				server := sshd.Start(t, "SetEnv PATH="+g.Path())
				far, err := sftp.Open(
					t.Context(),
					sftp.Login{Address: server.Address, User: server.User, Key: server.Key, HostKey: server.HostKey},
					dir,
				)
				require.NoError(t, err)
				beside, on = far, far.Computer().(volumes.Computer)
			} else {
				t.Setenv("PATH", g.Path())
				beside, err = local.Open(dir)
				require.NoError(t, err)
			}
			f, err := volumes.Open(c.set, beside, on)
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, f.Close()) })
			test(t, g, f, c.thin)
		})
	}
}

func names(t *testing.T, f storage.Folder, dir string) (all []string) {
	t.Helper()
	infos, err := f.List(dir)
	require.NoError(t, err)
	for _, i := range infos {
		all = append(all, i.Name)
	}
	return all
}

// TestVolumesAsFiles: they are made, grown, named, listed, read back past what the system remembers, and removed; what lay there before never shows.
func TestVolumesAsFiles(t *testing.T) {
	each(t, func(t *testing.T, g *group.Group, f *volumes.Folder, thin bool) {
		space, err := f.Space()
		require.NoError(t, err)
		assert.Equal(t, int64(400<<20), space.Total)
		assert.Equal(t, int64(400<<20), space.Free)
		const staged = ".bagaglio/staging/7/crew roster.raw"
		file, err := f.Create(staged)
		require.NoError(t, err)
		_, err = f.Create(staged)
		require.ErrorIs(t, err, fs.ErrExist)
		require.Error(t, file.Truncate(5*unit+512), "it is no multiple of what the group counts in")
		if a := file.(storage.Allocator); thin {
			require.ErrorIs(t, a.Allocate(0, 5*unit), errors.ErrUnsupported)
			require.NoError(t, file.Truncate(5*unit))
		} else {
			require.NoError(t, a.Allocate(0, 5*unit))
		}
		size, err := file.Size()
		require.NoError(t, err)
		assert.Equal(t, int64(5*unit), size)
		tides := bytes.Repeat([]byte("high tide "), 1000)
		_, err = file.WriteAt(tides, 2*unit-100)
		require.NoError(t, err)
		ranges := file.(storage.RangeFinder)
		holds := 0
		for off := int64(0); off < 5*unit; {
			end, data, err := ranges.Range(off)
			require.NoError(t, err)
			if data {
				holds++
				assert.LessOrEqual(t, off, int64(2*unit-100))
				assert.GreaterOrEqual(t, end, int64(2*unit-100+len(tides)))
			}
			off = end
		}
		assert.Equal(t, 1, holds)
		_, _, err = ranges.Range(5 * unit)
		require.ErrorIs(t, err, io.EOF)
		require.NoError(t, file.Sync())
		require.NoError(t, file.Close())

		assert.Equal(t, []string{".bagaglio"}, names(t, f, "."))
		assert.Equal(t, []string{staged}, names(t, f, ".bagaglio/staging/7"))
		require.Error(t, f.Remove(".bagaglio/staging"), "it is not empty")
		require.NoError(t, f.Rename(staged, "crew roster.raw"))
		require.ErrorIs(t, f.Rename(staged, "x.raw"), fs.ErrNotExist)
		called := g.Volumes(t)
		require.Len(t, called, 1)
		assert.Regexp(t, "^crew[+:]20roster$", called[0])
		require.NoError(t, storage.WriteFile(f, "crew roster.raw.bagtag", []byte("a tag")))
		require.NoError(t, storage.WriteFile(f, "notes/one.txt", []byte("a note")))
		assert.Equal(t, []string{"crew roster.raw", "crew roster.raw.bagtag", "notes"}, names(t, f, "."))
		require.ErrorIs(t, f.Rename("crew roster.raw", "crew roster.bin"), errors.ErrUnsupported)
		_, err = f.List(".bagaglio")
		require.ErrorIs(t, err, fs.ErrNotExist)

		again, err := f.Reopen("crew roster.raw")
		require.NoError(t, err)
		_, finds := again.(storage.RangeFinder)
		assert.False(t, finds, "nobody knows any more what was written to it")
		require.NoError(t, again.Truncate(6*unit))
		require.NoError(t, again.Sync())
		require.NoError(t, again.Close())
		read, err := storage.Fresh(f).Open("crew roster.raw")
		require.NoError(t, err)
		defer read.Close()
		got := make([]byte, 6*unit)
		_, err = io.ReadFull(io.NewSectionReader(read, 0, 6*unit), got)
		require.NoError(t, err)
		want := make([]byte, 6*unit)
		copy(want[2*unit-100:], tides)
		assert.True(t, bytes.Equal(want, got), "zeros but for what was written")

		before, err := f.Written("crew roster.raw")
		require.NoError(t, err)
		other, err := os.OpenFile(g.Device(called[0]), os.O_WRONLY|os.O_SYNC, 0)
		require.NoError(t, err)
		_, err = other.WriteAt([]byte("somebody else"), 0)
		require.NoError(t, errors.Join(err, other.Close()))
		after, err := f.Written("crew roster.raw")
		require.NoError(t, err)
		assert.NotEqual(t, before, after)

		info, err := f.Stat("crew roster.raw")
		require.NoError(t, err)
		assert.Equal(t, int64(6*unit), info.Size)
		space, err = f.Space()
		require.NoError(t, err)
		assert.True(t, space.Free < space.Total || thin && space.Free == space.Total)
	})
}

// TestWhoHasAVolumeOpen: somebody else is told, and this process is not taken for somebody else.
func TestWhoHasAVolumeOpen(t *testing.T) {
	each(t, func(t *testing.T, g *group.Group, f *volumes.Folder, _ bool) {
		is := func(word string) {
			t.Helper()
			why, err := f.InUse("tides.raw")
			require.NoError(t, err)
			assert.Equal(t, word, why)
		}
		file, err := f.Create("tides.raw")
		require.NoError(t, err)
		g.Open(t, "tides", true) // as the tools tell also of this process
		is("")
		require.NoError(t, file.Close())
		other, err := os.Open(g.Device("tides"))
		require.NoError(t, err)
		is("the volume is open on its host")
		again, err := f.Open("tides.raw")
		require.NoError(t, err)
		is("the volume is open on its host")
		require.NoError(t, errors.Join(again.Close(), other.Close()))
		g.Open(t, "tides", false)
		is("")
		require.NoError(t, f.Remove("tides.raw"))
		assert.Empty(t, g.Volumes(t))
	})
}

// TestSnapshots show a volume as it was, whoever writes to it, and go away; one that an earlier time left makes room.
func TestSnapshots(t *testing.T) {
	each(t, func(t *testing.T, g *group.Group, f *volumes.Folder, _ bool) {
		file, err := f.Create("tides.raw")
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("low tide"), 0)
		require.NoError(t, errors.Join(err, file.Sync()))
		const as = ".bagaglio/snapshots/7.raw"
		_, _, err = f.Snapshot("tides.raw", as) // and the process is killed
		require.NoError(t, err)
		still, drop, err := f.Snapshot("tides.raw", as)
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("high tide"), 0)
		require.NoError(t, errors.Join(err, file.Sync(), file.Close()))
		for folder, want := range map[storage.Folder]string{still: "low tide", storage.Fresh(still): "low tide", f: "high tid"} {
			read, err := folder.Open("tides.raw")
			require.NoError(t, err)
			b := make([]byte, 8)
			_, err = read.ReadAt(b, 0)
			require.NoError(t, errors.Join(err, read.Close()))
			assert.Equal(t, want, string(b))
		}
		assert.Len(t, g.Volumes(t), 2)
		require.NoError(t, drop())
		assert.Equal(t, []string{"tides"}, g.Volumes(t))
		_, _, err = f.Snapshot("gone.raw", as)
		require.ErrorIs(t, err, fs.ErrNotExist)
		require.NoError(t, f.Remove("tides.raw"))
	})
}

// TestWhatToolsRefuse is told with their own words, and leaves nothing behind.
func TestWhatToolsRefuse(t *testing.T) {
	each(t, func(t *testing.T, g *group.Group, f *volumes.Folder, thin bool) {
		if !thin {
			file, err := f.Create("large.raw")
			require.NoError(t, err)
			require.ErrorContains(t, file.Truncate(1<<30), "Insufficient free space")
			require.NoError(t, file.Close())
			require.NoError(t, f.Remove("large.raw"))
		}
		if !strings.HasSuffix(t.Name(), "zfs") {
			_, err := f.Create("pvmove.raw")
			require.ErrorContains(t, err, "choose another one")
		}
		_, err := f.Create(strings.Repeat("mast", 60) + ".raw")
		require.ErrorContains(t, err, "bytes long as the name of a volume")
		_, err = f.Open("gone.raw")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = f.Open("../gone.raw")
		require.ErrorIs(t, err, storage.ErrOutside)
		assert.Empty(t, g.Volumes(t))
	})
	g := group.New(t, "isola", 400<<20)
	t.Setenv("PATH", g.Path())
	beside, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer beside.Close()
	_, err = volumes.Open("lvm:elsewhere", beside, blocks.Here{})
	require.ErrorContains(t, err, `Volume group "elsewhere" not found`)
	for _, bad := range []string{"", "isola", "lvm:", "lvm:a b", "lvm:-x", "zfs:a//b", "zfs:../x", "raid:x", "lvm:a;b"} {
		require.Error(t, volumes.Check(bad), bad)
	}
	for _, good := range []string{"lvm:isola", "lvm:isola/thin_pool.1", "zfs:tank", "zfs:tank/disks/isola"} {
		require.NoError(t, volumes.Check(good), good)
	}
}
