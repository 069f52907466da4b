package disks

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unsafe"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// mountLoop makes a filesystem in a file and mounts it, which takes root.
func mountLoop(t *testing.T, kind string, mib int64, mkfs ...string) string {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting a filesystem takes root")
	}
	file, dir := filepath.Join(t.TempDir(), "filesystem"), t.TempDir()
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, mib<<20))
	if out, err := exec.Command(mkfs[0], append(mkfs[1:], file)...).CombinedOutput(); err != nil {
		t.Skipf("making %s is not possible here: %s", kind, out)
	}
	loop, err := exec.Command("losetup", "--find", "--show", file).CombinedOutput()
	if err != nil {
		t.Skipf("attaching a loop device is not possible here: %s", loop)
	}
	device := strings.TrimSpace(string(loop))
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", device).Run() })
	if err := unix.Mount(device, dir, kind, 0, ""); err != nil {
		t.Skipf("mounting %s is not possible here: %v", kind, err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH)) })
	return dir
}

// TestFactsOfRealFilesystems: what a trial finds out about each.
func TestFactsOfRealFilesystems(t *testing.T) {
	for _, c := range []struct {
		kind   string
		mkfs   []string
		clones bool
	}{{"ext4", []string{"mkfs.ext4", "-q"}, false}, {"xfs", []string{"mkfs.xfs", "-q"}, true}, {"btrfs", []string{"mkfs.btrfs", "-q"}, true}} {
		t.Run(c.kind, func(t *testing.T) {
			folder, err := local.Open(mountLoop(t, c.kind, 512, c.mkfs...))
			require.NoError(t, err)
			defer folder.Close()
			facts := storage.Trial(
				t.Context(),
				folder,
				OwnFolder,
				false,
				func(s storage.Tried) { assert.True(t, s.Worked, "%s: %s", s.Name, s.Said) },
			)
			assert.Equal(t, c.kind, facts.Filesystem)
			assert.Equal(t, c.clones, facts.Clones)
			assert.True(t, facts.Holes && facts.Swaps && facts.CaseSensitive, "%+v", facts)
			assert.False(t, facts.Removable || facts.ReadOnly, "%+v", facts)
		})
	}
}

// TestBlocksAreShared where the filesystem can do so: nothing is written, it takes no room, and it is proven all the same.
func TestBlocksAreShared(t *testing.T) {
	for kind, mkfs := range map[string][]string{"xfs": {"mkfs.xfs", "-q"}, "btrfs": {"mkfs.btrfs", "-q"}} {
		t.Run(kind, func(t *testing.T) {
			dir := mountLoop(t, kind, 512, mkfs...)
			w := newWorldIn(t, dir)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "gate-kiosk.raw"), w.source, 0o600))
			w.ends.Source = w.ends.Destination
			unix.Sync()
			before, err := w.ends.Destination.Space()
			require.NoError(t, err)
			request := toQcow2()
			request.As, request.Destination = "raw", &plan.Place{Path: "copy.raw"}
			r, err := w.run(t.Context(), w.plan(request), nil)
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, r.Outcome)
			assert.Contains(t, strings.Join(r.Remarks, ""), "shares its blocks")
			assert.Zero(t, r.BytesWritten)
			unix.Sync()
			after, err := w.ends.Destination.Space()
			require.NoError(t, err)
			assert.Less(t, before.Free-after.Free, int64(4<<20))
			b, err := os.ReadFile(filepath.Join(dir, "copy.raw"))
			require.NoError(t, err)
			assert.Equal(t, w.source, b)

			// Another layout is written.
			request.Layout, request.Destination = "thick", &plan.Place{Path: "thick.raw"}
			r, err = w.run(t.Context(), w.plan(request), nil)
			require.NoError(t, err)
			assert.NotContains(t, strings.Join(r.Remarks, ""), "shares its blocks")
		})
	}
}

// TestCopiesPassThroughTheCache: what was read and written does not stay there in the place of what other programs need.
func TestCopiesPassThroughTheCache(t *testing.T) {
	w := newWorld(t)
	const large = 192 << 20
	path := filepath.Join(w.from, "large.raw")
	b := make([]byte, large)
	for i := range b {
		b[i] = byte(i>>12) | 1
	}
	require.NoError(t, os.WriteFile(path, b, 0o600))
	unix.Sync()
	f, err := os.Open(path)
	require.NoError(t, err)
	require.NoError(t, unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED))
	require.NoError(t, f.Close())
	if cached(t, path) > large/4 {
		t.Skip("this storage keeps nothing outside of the cache")
	}
	request := toQcow2()
	request.Source.Path = "large.raw"
	_, err = w.run(t.Context(), w.plan(request), nil)
	require.NoError(t, err)
	for _, file := range []string{path, filepath.Join(w.to, "gate-kiosk.qcow2")} {
		assert.Less(t, cached(t, file), int64(large/3), file)
	}
}

// cached is how many bytes of a file are in the page cache.
func cached(t *testing.T, path string) (bytes int64) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	mapped, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED)
	require.NoError(t, err)
	defer func() { require.NoError(t, unix.Munmap(mapped)) }()
	pages := make([]byte, (info.Size()+4095)/4096)
	_, _, errno := unix.Syscall(unix.SYS_MINCORE, addressOf(mapped), uintptr(len(mapped)), addressOf(pages))
	require.Zero(t, errno)
	for _, p := range pages {
		bytes += int64(p&1) * 4096
	}
	return bytes
}

func addressOf(b []byte) uintptr { return uintptr(unsafe.Pointer(unsafe.SliceData(b))) }
