package all

import (
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/inspect"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
)

func run(t *testing.T, command string, more ...string) {
	t.Helper()
	words := append(strings.Fields(command), more...)
	out, err := exec.Command(words[0], words[1:]...).CombinedOutput()
	require.NoError(t, err, "%v: %s", words, out)
}

// made makes the filesystem with a tree of random files in it, and returns the image and what is in it: digests by paths.
func made(t *testing.T, s shape) (image string, want map[string]string) {
	t.Helper()
	for _, tool := range []string{strings.Fields(s.mkfs)[0], strings.Fields(s.fsck)[0]} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing", tool)
		}
	}
	image = filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, s.size))
	run(t, s.mkfs, image)
	if s.mtools {
		from := t.TempDir()
		grow(t, from, s)
		entries, err := os.ReadDir(from)
		require.NoError(t, err)
		for _, e := range entries {
			run(t, "mcopy -s -Q -i", image, filepath.Join(from, e.Name()), "::")
		}
		want = digests(t, os.DirFS(from))
		return image, want
	}
	inMount(t, image, "", func(at string) {
		grow(t, at, s)
		want = digests(t, os.DirFS(at))
	})
	return image, want
}

// inMount does something in an image that the kernel has mounted.
func inMount(t *testing.T, image, options string, do func(at string)) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	at := t.TempDir()
	out, err := exec.Command("mount", "-o", "loop"+options, image, at).CombinedOutput()
	if err != nil &&
		strings.Contains(string(out), "unknown filesystem type 'exfat'") { // of the kernel: there is one that needs no driver of it
		loop, loopErr := exec.Command("losetup", "--find", "--show", image).CombinedOutput()
		require.NoError(t, loopErr, "%s", loop)
		device := strings.TrimSpace(string(loop))
		defer run(t, "losetup --detach", device)
		out, err = exec.Command("mount.exfat-fuse", device, at, "-o", "rw"+options).CombinedOutput()
	}
	if err != nil {
		t.Skipf("this system does not mount it: %s", out)
	}
	defer run(t, "umount", at)
	do(at)
}

// grow makes random files: empty, small, large, with holes, in pieces, in deep folders, with long and foreign names, and some that are gone again.
func grow(t *testing.T, at string, s shape) {
	t.Helper()
	random := rand.New(rand.NewPCG(uint64(len(s.name)), 7))
	content := make([]byte, 1<<20)
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	budget := s.size / 3
	var all []string
	for i := range s.files {
		dir := at
		for range random.IntN(4) {
			dir = filepath.Join(dir, fmt.Sprintf("crew-%d", random.IntN(3)))
		}
		require.NoError(t, os.MkdirAll(dir, 0o755))
		name := fmt.Sprintf("roster-%d", i)
		switch random.IntN(6) {
		case 0:
			name += strings.Repeat("-long", 30)
		case 1:
			name = fmt.Sprintf("Überfahrt %d ⛴.txt", i)
		case 2:
			name = fmt.Sprintf("R%d.TXT", i)
		}
		size := int64(random.IntN(100))
		switch {
		case i%10 == 0:
			size = random.Int64N(min(budget/4, 1<<20) + 1)
		case i%7 == 0:
			size = random.Int64N(9000)
		}
		if budget -= size; budget < 0 {
			break
		}
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, content[:size], 0o644))
		if i%100 == 3 && !s.mtools { // with holes
			f, err := os.OpenFile(file, os.O_RDWR, 0)
			require.NoError(t, err)
			for range 30 {
				_, err := f.WriteAt(content[:100], random.Int64N(1<<24))
				require.NoError(t, err)
			}
			require.NoError(t, f.Close())
		}
		if all = append(all, file); i%5 == 4 { // so that what comes then is in pieces
			gone := random.IntN(len(all))
			require.NoError(t, os.RemoveAll(all[gone]))
		}
	}
	deep := at
	for range 40 {
		deep = filepath.Join(deep, "deeper")
	}
	require.NoError(t, os.MkdirAll(deep, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(deep, "found"), content[:5000], 0o600))
	if !s.mtools && s.kind != "ntfs" && s.kind != "exfat" {
		require.NoError(t, os.Symlink("deeper/deeper", filepath.Join(at, "short")))
		require.NoError(t, os.Symlink("/"+strings.Repeat("deeper/", 39), filepath.Join(at, "long")))
		require.NoError(t, os.Symlink("loop", filepath.Join(at, "loop")))
	}
}

// digests are those of all files below, and of what is no file what it is.
func digests(t *testing.T, tree fs.FS) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, fs.WalkDir(tree, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "lost+found" {
			return err
		}
		if !d.Type().IsRegular() {
			all[name] = d.Type().String()
			return nil
		}
		f, err := tree.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		hash := blake3.New()
		n, err := io.Copy(hash, f)
		all[name] = fmt.Sprintf("%d %x", n, hash.Sum(nil))
		return err
	}))
	return all
}

// same fails at the first path that differs.
func same(t *testing.T, want, got map[string]string) {
	t.Helper()
	for name, is := range want {
		require.Equal(t, is, got[name], name)
	}
	require.Len(t, got, len(want))
}

// image is a file as a disk.
type image struct{ *os.File }

func (i image) Size() int64 {
	info, err := i.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

func opened(t *testing.T, name string) (image, *inspect.Volume) {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	d := image{f}
	found, err := inspect.Inside(d)
	require.NoError(t, err)
	require.NotNil(t, found.Filesystem)
	v, err := inspect.Mount(d, found.Filesystem.Kind, 0, d.Size())
	require.NoError(t, err)
	return d, v
}
