//go:build linux && !elsewhere

package local

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"
	"unsafe"

	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func folder(t *testing.T) (*Folder, string) {
	t.Helper()
	dir := t.TempDir()
	f, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f, dir
}

// TestAFolderRests: when nothing is done with it, it keeps nothing open, and what is mounted there then is the folder.
func TestAFolderRests(t *testing.T) {
	dir := t.TempDir()
	f, err := Open(dir)
	require.NoError(t, err)
	defer f.Close()
	file, err := f.Create("tide")
	require.NoError(t, err)
	held := func() bool { f.root.mu.Lock(); defer f.root.mu.Unlock(); return f.root.open != nil }
	assert.True(t, held())
	require.Eventually(t, func() bool { return !held() }, 10*time.Second, 20*time.Millisecond)
	_, err = file.WriteAt([]byte("high"), 0)
	require.NoError(t, errors.Join(err, file.Close()), "files stay open")
	require.NoError(t, os.Rename(dir, dir+"-gone"))
	_, err = f.Stat("tide")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.Rename(dir+"-gone", dir))
	_, err = f.Stat("tide")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = f.Stat("tide")
	require.ErrorIs(t, err, fs.ErrClosed)
	assert.False(t, held())
}

// TestNothingLeavesTheFolder: by no kind of name, and by no link.
func TestNothingLeavesTheFolder(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(outside, []byte("crew only"), 0o600))
	f, dir := folder(t)
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink(filepath.Dir(outside), filepath.Join(dir, "dirlink")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own"), nil, 0o600))
	for _, name := range []string{"../secret", outside, "link", "dirlink/secret", "a/../../secret", "sub/../../../etc/passwd"} {
		_, err := f.Open(name)
		require.ErrorIs(t, err, storage.ErrOutside, name)
		_, err = f.Stat(name)
		require.ErrorIs(t, err, storage.ErrOutside, name)
	}
	for _, name := range []string{"../new", outside + "-new", "dirlink/new"} {
		_, err := f.Create(name)
		require.Error(t, err, name)
		require.Error(t, f.Rename("own", name), name)
	}
	for _, name := range []string{"new\nline", "bell\a"} {
		_, err := f.Create(name)
		require.ErrorContains(t, err, "control characters", name)
	}
	entries, err := os.ReadDir(filepath.Dir(outside))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing was made outside")
	b, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "crew only", string(b))
}

func TestNothingIsOverwritten(t *testing.T) {
	f, dir := folder(t)
	for _, name := range []string{"old", "new"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600))
	}
	_, err := f.Create("old")
	require.ErrorIs(t, err, fs.ErrExist)
	require.ErrorIs(t, f.Rename("new", "old"), fs.ErrExist)
	require.NoError(t, f.Exchange("new", "old"))
	b, err := os.ReadFile(filepath.Join(dir, "old"))
	require.NoError(t, err)
	assert.Equal(t, "new", string(b))
	require.NoError(t, f.Rename("old", "deep/down/there"))
	assert.FileExists(t, filepath.Join(dir, "deep/down/there"))
}

// TestSpecialFilesAreRefused, and do not make the caller wait.
func TestSpecialFilesAreRefused(t *testing.T) {
	f, dir := folder(t)
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o700))
	done := make(chan error, 1)
	go func() { _, err := f.Open("pipe"); done <- err }()
	select {
	case err := <-done:
		require.ErrorContains(t, err, "is a pipe")
	case <-time.After(10 * time.Second):
		t.Fatal("opening a pipe waits for a writer")
	}
	_, err := f.Open("sub")
	require.ErrorContains(t, err, "is a folder")
}

func TestRangesAndHoles(t *testing.T) {
	f, _ := folder(t)
	file, err := f.Create("disk")
	require.NoError(t, err)
	defer file.Close()
	require.NoError(t, file.Truncate(8<<20))
	_, err = file.WriteAt(make([]byte, 1<<20), 2<<20)
	require.NoError(t, err)
	finder := file.(storage.RangeFinder)
	type run struct {
		end  int64
		data bool
	}
	var runs []run
	for off := int64(0); off < 8<<20; {
		end, data, err := finder.Range(off)
		require.NoError(t, err)
		require.Greater(t, end, off)
		runs = append(runs, run{end, data})
		off = end
	}
	assert.Equal(t, []run{{2 << 20, false}, {3 << 20, true}, {8 << 20, false}}, runs)
	_, _, err = finder.Range(8 << 20)
	require.ErrorIs(t, err, io.EOF)

	require.NoError(t, file.(storage.HoleMaker).MakeHole(2<<20, 1<<20))
	end, data, err := finder.Range(0)
	require.NoError(t, err)
	assert.Equal(t, run{8 << 20, false}, run{end, data})
	require.NoError(t, file.(storage.Allocator).Allocate(0, 4<<20))
	info, err := f.Stat("disk")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, info.Room, int64(4<<20))
}

// cached counts the pages of a file that are in the page cache.
func cached(t *testing.T, path string) (pages int) {
	t.Helper()
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	info, err := file.Stat()
	require.NoError(t, err)
	m, err := unix.Mmap(int(file.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED)
	require.NoError(t, err)
	defer func() { _ = unix.Munmap(m) }()
	vec := make([]byte, (len(m)+os.Getpagesize()-1)/os.Getpagesize())
	_, _, errno := unix.Syscall(unix.SYS_MINCORE, uintptr(unsafe.Pointer(&m[0])), uintptr(len(m)), uintptr(unsafe.Pointer(&vec[0])))
	require.Zero(t, errno)
	for _, v := range vec {
		pages += int(v & 1)
	}
	return pages
}

// TestFreshReadsFromStorage: before a proof reads, nothing of the file is in memory; and a copy leaves little there.
func TestFreshReadsFromStorage(t *testing.T) {
	f, dir := folder(t)
	path := filepath.Join(dir, "disk")
	file, err := f.Create("disk")
	require.NoError(t, err)
	const size = 96 << 20
	block := make([]byte, 4<<20)
	for i := range block {
		block[i] = byte(i * 7)
	}
	for off := int64(0); off < size; off += int64(len(block)) {
		_, err := file.WriteAt(block, off)
		require.NoError(t, err)
	}
	// What is behind the bound was sent to the storage and let go of. Read-ahead and neighbours leave some room for error.
	assert.Less(t, cached(t, path)*os.Getpagesize(), behind+16<<20)
	require.NoError(t, file.Sync())
	require.NoError(t, file.Close())

	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, size/os.Getpagesize(), cached(t, path), "an ordinary read fills the cache of %d bytes", len(b))
	fresh, err := storage.Fresh(f).Open("disk")
	require.NoError(t, err)
	defer fresh.Close()
	assert.Zero(t, cached(t, path))
	n, err := fresh.ReadAt(block, 0)
	require.NoError(t, err)
	require.Len(t, block, n)
	assert.Less(t, cached(t, path)*os.Getpagesize(), 16<<20, "what was read is let go of")
}

func TestListTellsWhatIsThere(t *testing.T) {
	f, dir := folder(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "ships/ferry"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ships/b"), []byte("12345"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ships/bad\nname"), nil, 0o600))
	require.NoError(t, os.Symlink("b", filepath.Join(dir, "ships/a")))
	infos, err := f.List("ships")
	require.NoError(t, err)
	require.Len(t, infos, 4)
	assert.Equal(t, `ships/bad\x0aname`, infos[2].Name, "it is shown, and can be worked on")
	_, err = f.Stat(infos[2].Name)
	require.NoError(t, err)
	assert.Equal(t, "ships/a", infos[0].Name)
	assert.False(t, infos[0].Regular)
	assert.Equal(t, "ships/b", infos[1].Name)
	assert.Equal(t, int64(5), infos[1].Size)
	assert.True(t, infos[3].IsDir)
	below, err := storage.Sub(f, "ships").List(".")
	require.NoError(t, err)
	assert.Equal(t, "b", below[1].Name)
}

func TestSpaceKnowsTheLimitOfTheUser(t *testing.T) {
	f, _ := folder(t)
	before, err := f.Space()
	require.NoError(t, err)
	assert.Positive(t, before.Total)
	assert.NotEmpty(t, before.Kind)
	var old unix.Rlimit
	require.NoError(t, unix.Getrlimit(unix.RLIMIT_FSIZE, &old))
	require.NoError(t, unix.Setrlimit(unix.RLIMIT_FSIZE, &unix.Rlimit{Cur: 5 << 20, Max: old.Max}))
	defer func() { require.NoError(t, unix.Setrlimit(unix.RLIMIT_FSIZE, &old)) }()
	after, err := f.Space()
	require.NoError(t, err)
	assert.Equal(t, int64(5<<20), after.LargestFile)
}

func TestRemoveAll(t *testing.T) {
	f, dir := folder(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a/b/c"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/b/file"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "keep"), nil, 0o600))
	require.NoError(t, os.Symlink(filepath.Join(dir, "keep"), filepath.Join(dir, "a/link")))
	require.NoError(t, storage.RemoveAll(f, "not there"))
	err := storage.RemoveAll(f, "a")
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Join(dir, "a"))
	assert.FileExists(t, filepath.Join(dir, "keep"), "a link is removed, not what it leads to")
}

// TestAnotherFileOfTheName has another version, on a filesystem of the machine's drives and in memory, also when it is given the same inode.
func TestAnotherFileOfTheName(t *testing.T) {
	for _, dir := range []string{t.TempDir(), "/dev/shm"} {
		dir, err := os.MkdirTemp(dir, "bagaglio")
		if err != nil {
			t.Skipf("no folder can be made: %v", err)
		}
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		f, err := Open(dir)
		require.NoError(t, err)
		t.Cleanup(func() { _ = f.Close() })
		at := filepath.Join(dir, "tide")
		require.NoError(t, os.WriteFile(at, []byte("high"), 0o600))
		first, err := f.Version("tide")
		require.NoError(t, err)
		require.NoError(t, os.Rename(at, at+"s"))
		same, err := f.Version("tides")
		require.NoError(t, err)
		assert.Equal(t, first, same, "another name")
		assert.True(t, storage.SameVersion(first, same))
		require.NoError(t, os.Remove(at+"s"))
		require.EventuallyWithT(t, func(c *assert.CollectT) { // the clock of a filesystem goes in steps
			require.NoError(c, os.WriteFile(at, []byte("high"), 0o600))
			second, err := f.Version("tide")
			require.NoError(c, errors.Join(err, os.Remove(at)))
			assert.False(c, storage.SameVersion(first, second), "%s and %s", first, second)
		}, 10*time.Second, time.Millisecond)
	}
}

// TestAFolderOnAnotherDrive lies in the folder that the drive is mounted in: what is kept on it is not in a pool of the folder above.
func TestAFolderOnAnotherDrive(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("mounts take root")
	}
	above := t.TempDir()
	drive := filepath.Join(above, "drive")
	require.NoError(t, os.Mkdir(drive, 0o700))
	if err := unix.Mount("tmpfs", drive, "tmpfs", 0, "size=1m"); err != nil {
		t.Skipf("nothing can be mounted: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(drive, unix.MNT_DETACH) })
	state := filepath.Join(drive, "state")
	require.NoError(t, os.Mkdir(state, 0o700))
	inside, err := Find(state)
	require.NoError(t, err)
	for _, dir := range []string{state, drive, above, filepath.Dir(above), "/"} {
		outside, err := Find(dir)
		require.NoError(t, err)
		assert.True(t, inside.In(outside), dir)
		assert.Equal(t, dir == state, inside.Is(outside), dir)
		assert.Equal(t, dir == state, outside.In(inside), dir)
		require.ErrorIs(t, Keep(state).Apart(dir), ErrKept, dir)
	}
	require.NoError(t, Keep(state).Apart(t.TempDir()))
}
