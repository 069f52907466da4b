// Package all tests every kind of storage by the same rules.
package all

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"bagaglio/core/storage"
	"bagaglio/core/storage/faulty"
	storagehttp "bagaglio/core/storage/http"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/objects"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/testkit/objectstore"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/webdav"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// kind is a kind of storage. open returns a folder, and where its files lie on this computer, empty when they do not.
type kind struct {
	name string
	open func(t *testing.T) (storage.Folder, string)
	// readOnly kinds are tested with files that are put there behind their back.
	readOnly bool
}

var kinds = []kind{
	{"local", func(t *testing.T) (storage.Folder, string) {
		dir := t.TempDir()
		f, err := local.Open(dir)
		require.NoError(t, err)
		return f, dir
	}, false},
	{"sftp", func(t *testing.T) (storage.Folder, string) { return overSSH(t) }, false},
	{"sftp without tools", func(t *testing.T) (storage.Folder, string) { return overSSH(t, "ForceCommand internal-sftp") }, false},
	{"memory", func(*testing.T) (storage.Folder, string) { return faulty.New(false), "" }, false},
	{"s3", func(t *testing.T) (storage.Folder, string) {
		s := objectstore.Start(t)
		f, err := objects.Open(objects.Login{URL: s.URL, AccessKey: objectstore.AccessKey, SecretKey: objectstore.SecretKey}, "/depot/disks")
		require.NoError(t, err)
		return f, ""
	}, false},
	{"http", func(t *testing.T) (storage.Folder, string) {
		dir := t.TempDir()
		server := httptest.NewServer(&webdav.Handler{Prefix: "/disks", FileSystem: webdav.Dir(dir), LockSystem: webdav.NewMemLS()})
		t.Cleanup(server.Close)
		f, err := storagehttp.Open(storagehttp.Login{URL: server.URL + "/disks"})
		require.NoError(t, err)
		return f, dir
	}, true},
	{"http, as it is served", func(t *testing.T) (storage.Folder, string) {
		dir := t.TempDir()
		here, err := local.Open(dir)
		require.NoError(t, err)
		server := httptest.NewServer(storagehttp.Handler("/disks", here))
		t.Cleanup(server.Close)
		f, err := storagehttp.Open(storagehttp.Login{URL: server.URL + "/disks"})
		require.NoError(t, err)
		return f, dir
	}, true},
}

func overSSH(t *testing.T, config ...string) (*sftp.Folder, string) {
	server := sshd.Start(t, config...)
	dir := t.TempDir()
	f, err := sftp.Open(t.Context(), sftp.Login{Address: server.Address, User: server.User, Key: server.Key, HostKey: server.HostKey}, dir)
	require.NoError(t, err)
	return f, dir
}

// each runs a test for all kinds, or for those that can be written to.
func each(t *testing.T, writable bool, test func(t *testing.T, k kind, f storage.Folder, dir string)) {
	for _, k := range kinds {
		if k.readOnly && writable {
			continue
		}
		t.Run(k.name, func(t *testing.T) {
			f, dir := k.open(t)
			t.Cleanup(func() { assert.NoError(t, f.Close()) })
			test(t, k, f, dir)
		})
	}
}

func write(t *testing.T, f storage.Folder, name, content string) {
	t.Helper()
	file, err := f.Create(name)
	require.NoError(t, err)
	_, err = file.WriteAt([]byte(content), 0)
	require.NoError(t, err)
	require.NoError(t, file.Sync())
	require.NoError(t, file.Close())
}

func read(t *testing.T, f storage.Folder, name string) string {
	t.Helper()
	file, err := f.Open(name)
	require.NoError(t, err)
	defer file.Close()
	size, err := file.Size()
	require.NoError(t, err)
	p := make([]byte, size)
	if _, err := file.ReadAt(p, 0); err != nil {
		require.ErrorIs(t, err, io.EOF)
	}
	return string(p)
}

func TestFilesAreMadeAndNamed(t *testing.T) {
	each(t, true, func(t *testing.T, _ kind, f storage.Folder, dir string) {
		write(t, f, "a/b/disk", "sea")
		_, err := f.Create("a/b/disk")
		require.ErrorIs(t, err, fs.ErrExist)
		write(t, f, "other", "land")
		require.ErrorIs(t, f.Rename("other", "a/b/disk"), fs.ErrExist)
		require.NoError(t, f.Rename("other", "c/d/new"), "folders above the new name are made")
		_, err = f.Open("other")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = f.Stat("other")
		require.ErrorIs(t, err, fs.ErrNotExist)
		require.Error(t, f.Rename("other", "elsewhere"), "it is not there any more")
		assert.Equal(t, "land", read(t, f, "c/d/new"))
		switch err := f.Exchange("c/d/new", "a/b/disk"); {
		case errors.Is(err, errors.ErrUnsupported):
			assert.Equal(t, "land", read(t, f, "c/d/new"), "nothing was done")
		default:
			require.NoError(t, err)
			assert.Equal(t, "sea", read(t, f, "c/d/new"))
		}
		require.NoError(t, f.Sync("c/d"))
		if dir != "" {
			require.ErrorIs(t, f.Sync("c/nowhere"), fs.ErrNotExist)
		}
		require.Error(t, f.Remove("c"), "it is not empty")
		require.NoError(t, storage.RemoveAll(f, "c"))
		_, err = f.List("c")
		require.ErrorIs(t, err, fs.ErrNotExist)
		file, err := f.Reopen("a/b/disk")
		require.NoError(t, err)
		_, err = file.WriteAt([]byte("!"), 4)
		require.NoError(t, err)
		require.NoError(t, file.Truncate(6))
		require.NoError(t, file.Close())
		info, err := f.Stat("a/b/disk")
		require.NoError(t, err)
		assert.Equal(t, int64(6), info.Size)
		_, err = f.Reopen("missing")
		require.ErrorIs(t, err, fs.ErrNotExist)
	})
}

// TestFoldersComeAndGo: whoever makes a file gets one, also while others remove folders that are empty, as jobs do with those of the staging folder.
func TestFoldersComeAndGo(t *testing.T) {
	each(t, true, func(t *testing.T, _ kind, f storage.Folder, _ string) {
		var group errgroup.Group
		for worker := range 6 {
			group.Go(func() error {
				for i := range 40 {
					name := fmt.Sprintf("staging/common/%d-%d", worker, i)
					file, err := f.Create(name)
					if err != nil {
						return err
					}
					if err := errors.Join(file.Close(), f.Remove(name)); err != nil {
						return err
					}
					_ = f.Remove("staging/common") // when it is empty
					_ = f.Remove("staging")
				}
				return nil
			})
		}
		require.NoError(t, group.Wait())
	})
}

// TestNamesNeverLeave: by no call and no kind of name.
func TestNamesNeverLeave(t *testing.T) {
	each(t, false, func(t *testing.T, k kind, f storage.Folder, dir string) {
		if dir == "" {
			t.Skip("in memory there is no outside")
		}
		outside := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("crew only"), 0o600))
		names := []string{"../secret", outside + "/secret", "a/../../secret", "new\nline", "bell\a"}
		require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(dir, "link")))
		require.NoError(t, os.Symlink(outside, filepath.Join(dir, "dirlink")))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "own"), nil, 0o600))
		if k.name != "http" { // what a server does with its links is its own business
			names = append(names, "link", "dirlink/secret")
		}
		for _, name := range names {
			for what, call := range map[string]func() error{
				"open":   func() error { _, err := f.Open(name); return err },
				"create": func() error { _, err := f.Create(name); return err },
				"reopen": func() error { _, err := f.Reopen(name); return err },
				"stat":   func() error { _, err := f.Stat(name); return err },
				"from":   func() error { return f.Rename(name, "somewhere") },
				"to":     func() error { return f.Rename("own", name) },
				"swap":   func() error { return f.Exchange("own", name) },
			} {
				if name == "link" && (what == "from" || what == "swap") {
					continue // the link itself
				}
				err := call()
				require.Error(t, err, "%s %q", what, name)
				assert.NotContains(t, err.Error(), "\n", "%s %q", what, name)
				assert.NotContains(t, err.Error(), "\a", "%s %q", what, name)
			}
		}
		entries, err := os.ReadDir(outside)
		require.NoError(t, err)
		assert.Len(t, entries, 1, "nothing was made or moved outside")
	})
}

// TestListTells what is there, and leaves out what cannot be named.
func TestListTells(t *testing.T) {
	each(t, false, func(t *testing.T, k kind, f storage.Folder, dir string) {
		if dir == "" {
			write(t, f, "ships/b", "12345")
			write(t, f, "ships/ferry/log", "")
		} else {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "ships/ferry"), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "ships/b"), []byte("12345"), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "ships/bad\nname"), nil, 0o600))
		}
		infos, err := f.List("ships")
		require.NoError(t, err)
		if dir != "" { // a name that cannot be shown is listed as its bytes
			require.Len(t, infos, 3)
			assert.Equal(t, `ships/bad\x0aname`, infos[1].Name)
			_, err = f.Stat(infos[1].Name)
			require.NoError(t, err)
			infos = slices.Delete(infos, 1, 2)
		}
		require.Len(t, infos, 2)
		assert.Equal(t, "ships/b", infos[0].Name)
		assert.Equal(t, int64(5), infos[0].Size)
		assert.True(t, infos[0].Regular)
		assert.Equal(t, "ships/ferry", infos[1].Name)
		assert.True(t, infos[1].IsDir)
		below, err := storage.Sub(f, "ships").List(".")
		require.NoError(t, err)
		assert.Equal(t, "b", below[0].Name)
		info, err := f.Stat("ships/b")
		require.NoError(t, err)
		assert.Equal(t, infos[0].Size, info.Size)
		if dir != "" {
			assert.WithinDuration(t, infos[0].Modified, info.Modified, 0)
		}
		_, err = f.Open("ships/ferry")
		require.Error(t, err, "a folder is no file")
		_, err = f.List("nowhere")
		require.ErrorIs(t, err, fs.ErrNotExist)
		space, err := f.Space()
		require.NoError(t, err)
		assert.NotEmpty(t, space.Kind)
		assert.Equal(t, k.readOnly, space.ReadOnly)
	})
}

// TestLargeReadsAndWrites in several goroutines, over ends and past them, give every byte, and the checksum says so too.
func TestLargeReadsAndWrites(t *testing.T) {
	const size, part = 21<<20 + 77, 4 << 20
	content := make([]byte, size)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	each(t, false, func(t *testing.T, k kind, f storage.Folder, dir string) {
		if k.readOnly {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), content, 0o600))
		} else {
			file, err := f.Create("disk")
			require.NoError(t, err)
			require.NoError(t, file.Truncate(size))
			var group sync.WaitGroup
			for off := 0; off < size; off += part {
				group.Go(func() {
					_, err := file.WriteAt(content[off:min(off+part, size)], int64(off))
					assert.NoError(t, err)
				})
			}
			group.Wait()
			require.NoError(t, file.Sync())
			require.NoError(t, file.Close())
		}
		file, err := storage.Fresh(f).Open("disk")
		require.NoError(t, err)
		defer file.Close()
		got := make([]byte, size)
		var group sync.WaitGroup
		for off := 0; off < size; off += part {
			group.Go(func() {
				_, err := file.ReadAt(got[off:min(off+part, size)], int64(off))
				assert.NoError(t, err)
			})
		}
		group.Wait()
		require.True(t, bytes.Equal(content, got))
		n, err := file.ReadAt(make([]byte, 100), size-40)
		assert.Equal(t, 40, n)
		require.ErrorIs(t, err, io.EOF)
		_, err = file.ReadAt(make([]byte, 1), size)
		require.ErrorIs(t, err, io.EOF)
		sum, err := storage.SHA256(t.Context(), f, "disk", nil)
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256(content), sum)
	})
}

// TestHolesStay: what is not written takes no room where it lies.
func TestHolesStay(t *testing.T) {
	each(t, true, func(t *testing.T, k kind, f storage.Folder, dir string) {
		file, err := f.Create("thin")
		require.NoError(t, err)
		require.NoError(t, file.Truncate(1<<30))
		_, err = file.WriteAt([]byte("ferry"), 512<<20)
		require.NoError(t, err)
		require.NoError(t, file.Close())
		if dir == "" {
			t.Skip("in memory nothing has room")
		}
		var st unix.Stat_t
		require.NoError(t, unix.Stat(filepath.Join(dir, "thin"), &st))
		assert.Equal(t, int64(1<<30), st.Size)
		assert.Less(t, st.Blocks*512, int64(1<<20))

		file, err = f.Open("thin")
		require.NoError(t, err)
		defer file.Close()
		finder, tells := file.(storage.RangeFinder)
		require.Equal(t, k.name != "sftp without tools", tells, "what cannot be told from data is not told")
		if !tells {
			return
		}
		end, data, err := finder.Range(0)
		require.NoError(t, err)
		assert.False(t, data)
		assert.Equal(t, int64(512<<20), end)
		end, data, err = finder.Range(512<<20 + 1)
		require.NoError(t, err)
		assert.True(t, data)
		assert.LessOrEqual(t, end, int64(513<<20))
		end, data, err = finder.Range(end)
		require.NoError(t, err)
		assert.False(t, data)
		assert.Equal(t, int64(1<<30), end)
		_, _, err = finder.Range(1 << 30)
		assert.ErrorIs(t, err, io.EOF)
	})
}

// TestSpecialFiles are refused, and do not make the caller wait.
func TestSpecialFiles(t *testing.T) {
	each(t, true, func(t *testing.T, _ kind, f storage.Folder, dir string) {
		if dir == "" {
			t.Skip("in memory there are none")
		}
		require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
		_, err := f.Open("pipe")
		require.ErrorContains(t, err, "is a pipe")
	})
}

// TestSumsWhereTheFileLies: over SSH the host's own tool takes them, where it may be run.
func TestSumsWhereTheFileLies(t *testing.T) {
	for name, there := range map[string]bool{"sftp": true, "sftp without tools": false} {
		i := 1
		if !there {
			i = 2
		}
		require.Equal(t, name, kinds[i].name)
		t.Run(name, func(t *testing.T) {
			f, _ := kinds[i].open(t)
			defer f.Close()
			write(t, f, "it's $(a) name", "sea")
			sum, err := f.(storage.Summer).SHA256(t.Context(), "it's $(a) name")
			if there {
				require.NoError(t, err)
				assert.Equal(t, sha256.Sum256([]byte("sea")), sum)
			} else {
				require.ErrorIs(t, err, errors.ErrUnsupported)
			}
			cancelled, cancel := context.WithCancel(t.Context())
			cancel()
			_, err = f.(storage.Summer).SHA256(cancelled, "it's $(a) name")
			require.Error(t, err)
		})
	}
}

// TestTrialTells what works, and leaves nothing behind.
func TestTrialTells(t *testing.T) {
	each(t, false, func(t *testing.T, k kind, f storage.Folder, dir string) {
		var failed, steps []string
		facts := storage.Trial(t.Context(), f, ".own", true, func(s storage.Tried) {
			steps = append(steps, s.Name)
			if !s.Worked {
				failed = append(failed, s.Name+": "+s.Said)
			}
		})
		assert.Empty(t, failed)
		assert.Equal(t, k.readOnly, facts.ReadOnly)
		if k.readOnly {
			assert.Equal(t, []string{"list", "free space"}, steps)
			return
		}
		assert.True(t, facts.CaseSensitive)
		assert.Positive(t, facts.WriteSpeed)
		assert.Positive(t, facts.ReadSpeed)
		assert.Equal(t, k.name == "sftp without tools", len(facts.Caveats) > 0, "%v", facts.Caveats)
		if dir != "" {
			assert.True(t, facts.Holes)
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Empty(t, entries)
		}
	})
}
