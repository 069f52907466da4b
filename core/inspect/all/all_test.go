package all

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// shape is how a filesystem is made by the system's own tool.
type shape struct {
	name, kind string
	size       int64
	mkfs       string // with the name of the image behind it
	fsck       string // likewise, which changes nothing
	files      int
	mtools     bool // the kernel has no driver that it could count on: files go in and out by mtools
}

var shapes = []shape{
	{"ext2", "ext2", 64 << 20, "mkfs.ext2 -q -F -b 1024", "e2fsck -fn", 500, false},
	{"ext3", "ext3", 64 << 20, "mkfs.ext3 -q -F -b 2048", "e2fsck -fn", 500, false},
	{"ext4", "ext4", 256 << 20, "mkfs.ext4 -q -F -b 4096", "e2fsck -fn", 10000, false},
	{"ext4, 1 KiB", "ext4", 128 << 20, "mkfs.ext4 -q -F -b 1024 -L data", "e2fsck -fn", 500, false},
	{"ext4, inline", "ext4", 64 << 20, "mkfs.ext4 -q -F -O inline_data", "e2fsck -fn", 300, false},
	{"ext4, groups with their descriptors", "ext4", 128 << 20, "mkfs.ext4 -q -F -b 1024 -O meta_bg,^resize_inode", "e2fsck -fn", 300, false},
	{"ext4, few copies", "ext4", 128 << 20, "mkfs.ext4 -q -F -b 1024 -O sparse_super2", "e2fsck -fn", 300, false},
	{"ext4, not together", "ext4", 128 << 20, "mkfs.ext4 -q -F -b 1024 -O ^flex_bg,^64bit", "e2fsck -fn", 300, false},
	{"ext4, clusters of small blocks", "ext4", 64 << 20, "mkfs.ext4 -q -F -b 1024 -O bigalloc -C 8192", "e2fsck -fn", 200, false},
	{"ext4, clusters", "ext4", 128 << 20, "mkfs.ext4 -q -F -b 4096 -O bigalloc -C 16384", "e2fsck -fn", 300, false},
	{"fat12", "fat12", 4 << 20, "mkfs.vfat -F 12", "fsck.vfat -n", 60, true},
	{"fat16", "fat16", 64 << 20, "mkfs.vfat -F 16 -n DATA", "fsck.vfat -n", 200, true},
	{"btrfs", "btrfs", 256 << 20, "mkfs.btrfs -q -f -L data", "btrfs check --readonly -q", 3000, false},
	{"btrfs, one copy, small nodes", "btrfs", 256 << 20, "mkfs.btrfs -q -f -m single -n 4096", "btrfs check --readonly -q", 300, false},
	{"exfat", "exfat", 200 << 20, "mkfs.exfat -L data -c 4K", "fsck.exfat -n", 120, false},
	{"exfat, large clusters", "exfat", 300 << 20, "mkfs.exfat -c 128K", "fsck.exfat -n", 100, false},
	{"ntfs", "ntfs", 100 << 20, "mkfs.ntfs -Q -q -F -L data", "ntfsfix -n", 3000, false},
	{"ntfs, 64 KiB", "ntfs", 100 << 20, "mkfs.ntfs -Q -q -F -c 65536", "ntfsfix -n", 300, false},
	{"xfs", "xfs", 320 << 20, "mkfs.xfs -q -f", "xfs_repair -n -f", 5000, false},
	{"xfs, 1 KiB, large folders", "xfs", 320 << 20, "mkfs.xfs -q -f -b size=1024 -n size=16384", "xfs_repair -n -f", 500, false},
	{"xfs, version 4", "xfs", 320 << 20, "mkfs.xfs -q -f -m crc=0", "xfs_repair -n -f", 500, false},
	{"xfs, many groups", "xfs", 330 << 20, "mkfs.xfs -q -f -d agcount=4 -i size=2048", "xfs_repair -n -f", 300, false},
	{"fat32", "fat32", 80 << 20, "mkfs.vfat -F 32 -S 512 -s 1", "fsck.vfat -n", 300, true},
}

// TestEveryFilesystem: what the kernel, or mtools, put into a filesystem is read from it, and what it uses is all that it needs: a copy of that
// alone is whole by the system's own check, and has the same files.
func TestEveryFilesystem(t *testing.T) {
	for _, s := range shapes {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			name, want := made(t, s)
			d, v := opened(t, name)
			found, err := inspect.Inside(d)
			require.NoError(t, err)
			assert.Equal(t, s.kind, found.Filesystem.Kind)
			same(t, want, digests(t, v))
			about := v.About()
			assert.Empty(t, about.Doubt)

			copied := filepath.Join(t.TempDir(), "copy")
			out, err := os.Create(copied)
			require.NoError(t, err)
			require.NoError(t, out.Truncate(s.size))
			_, err = io.Copy(out, rand8(s.size)) // what is not used is noise
			require.NoError(t, err)
			var used, last int64
			require.NoError(t, v.Used(t.Context(), func(r fingerprint.Range) error {
				require.GreaterOrEqual(t, r.Offset, last, "they come in order")
				last = r.Offset + r.Length
				used += r.Length
				b := make([]byte, r.Length)
				_, err := d.ReadAt(b, r.Offset)
				require.NoError(t, err)
				_, err = out.WriteAt(b, r.Offset)
				return err
			}))
			require.NoError(t, out.Close())
			assert.LessOrEqual(t, last, s.size)
			assert.LessOrEqual(t, used, about.Used+s.size/50) // tables that were never used are not read
			assert.Less(t, used, s.size*9/10, "there is free space")
			run(t, s.fsck, copied)
			_, again := opened(t, copied)
			same(t, want, digests(t, again))
			if !s.mtools {
				inMount(t, copied, ",ro", func(at string) { same(t, want, digests(t, os.DirFS(at))) })
			}
		})
	}
}

// rand8 is noise.
func rand8(n int64) io.Reader {
	return io.LimitReader(rand.NewChaCha8([32]byte{8}), n)
}

// TestVolumesAsFS: they keep to what a file system of Go does, and links are followed inside.
func TestVolumesAsFS(t *testing.T) {
	for _, s := range []shape{
		{"ext4", "ext4", 16 << 20, "mkfs.ext4 -q -F", "e2fsck -fn", 20, false},
		{"fat16", "fat16", 16 << 20, "mkfs.vfat -F 16", "fsck.vfat -n", 20, true},
	} {
		t.Run(s.name, func(t *testing.T) {
			name, _ := made(t, s)
			_, v := opened(t, name)
			require.NoError(t, fstest.TestFS(without{v}, "deeper/deeper"))
			_, err := v.Open("no/such")
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = v.Open("../out")
			require.ErrorIs(t, err, fs.ErrInvalid)
			if s.mtools {
				return
			}
			found := strings.Repeat("deeper/", 40) + "found"
			want, err := fs.ReadFile(v, found)
			require.NoError(t, err)
			require.Len(t, want, 5000)
			for _, by := range []string{"short/" + strings.Repeat("deeper/", 38) + "found", "long/deeper/found"} {
				got, err := fs.ReadFile(v, by)
				require.NoError(t, err, by)
				assert.True(t, bytes.Equal(want, got), by)
			}
			_, err = v.Open("loop")
			require.ErrorContains(t, err, "more than 40 links")
		})
	}
}

// without is a volume whose links are not looked at, which the test of file systems takes for files.
type without struct{ *inspect.Volume }

func (w without) ReadDir(name string) ([]fs.DirEntry, error) {
	all, err := w.Volume.ReadDir(name)
	kept := all[:0]
	for _, e := range all {
		if e.Type()&fs.ModeSymlink == 0 {
			kept = append(kept, e)
		}
	}
	return kept, err
}

func (w without) Open(name string) (fs.File, error) {
	f, err := w.Volume.Open(name)
	if d, ok := f.(fs.ReadDirFile); ok {
		return &listed{ReadDirFile: d}, err
	}
	return f, err
}

type listed struct {
	fs.ReadDirFile
	left []fs.DirEntry
	done bool
}

func (l *listed) ReadDir(n int) ([]fs.DirEntry, error) {
	if !l.done {
		all, err := l.ReadDirFile.ReadDir(-1)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			if e.Type()&fs.ModeSymlink == 0 {
				l.left = append(l.left, e)
			}
		}
		l.done = true
	}
	if n <= 0 {
		n = len(l.left)
	} else if len(l.left) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(l.left))
	out := l.left[:n]
	l.left = l.left[n:]
	return out, nil
}

// TestCompressedFiles of NTFS are read: well compressed, badly, with holes, and of lengths around those of a chunk and a unit.
func TestCompressedFiles(t *testing.T) {
	s := shape{"ntfs", "ntfs", 64 << 20, "mkfs.ntfs -Q -q -F", "ntfsfix -n", 0, false}
	name, _ := made(t, s)
	var want map[string]string
	inMount(t, name, ",compression", func(at string) {
		dir := filepath.Join(at, "packed")
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, unix.Setxattr(dir, "system.ntfs_attrib_be", []byte{0, 0, 0x08, 0x10}, 0))
		random := rand.New(rand.NewPCG(1, 2))
		for i, n := range []int{1, 700, 4095, 4096, 4097, 65535, 65536, 65537, 300_000, 1_000_000} {
			var b bytes.Buffer
			for b.Len() < n {
				switch random.IntN(4) {
				case 0:
					b.Write(make([]byte, random.IntN(70_000)))
				case 1:
					for range random.IntN(5000) {
						b.WriteByte(byte(random.Uint32()))
					}
				default:
					b.WriteString(strings.Repeat(fmt.Sprintf("crew %d sails at %d, ", random.IntN(9), random.IntN(24)), random.IntN(200)))
				}
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("tides-%d", i)), b.Bytes()[:n], 0o644))
		}
		want = digests(t, os.DirFS(at))
	})
	require.Len(t, want, 1+11+41)
	_, v := opened(t, name)
	same(t, want, digests(t, v))
	packed := 0
	for _, folder := range list(t, v, v.Root()) {
		if folder.Name == "packed" {
			for _, f := range list(t, v, folder.Node) {
				pieces, err := v.Pieces(f.Node)
				require.NoError(t, err)
				for _, p := range pieces {
					if p.Data != nil && p.Len > 4096 {
						packed++
					}
				}
			}
		}
	}
	assert.Greater(t, packed, 5, "they are compressed")
}

func list(t *testing.T, v *inspect.Volume, folder uint64) []inspect.Entry {
	t.Helper()
	all, err := v.List(folder)
	require.NoError(t, err)
	return all
}

// TestOnesThatAreInUse: the map of a filesystem that is mounted is doubted, as long as it is.
func TestOnesThatAreInUse(t *testing.T) {
	for _, s := range []shape{
		{"ext4", "ext4", 64 << 20, "mkfs.ext4 -q -F", "e2fsck -fn", 20, false},
		{"xfs", "xfs", 320 << 20, "mkfs.xfs -q -f", "xfs_repair -n -f", 20, false},
	} {
		t.Run(s.name, func(t *testing.T) {
			name, _ := made(t, s)
			inMount(t, name, "", func(at string) {
				require.NoError(t, os.WriteFile(filepath.Join(at, "new"), make([]byte, 100_000), 0o600))
				unix.Sync()
				_, v := opened(t, name)
				assert.Contains(t, v.About().Doubt, "it was not unmounted")
			})
			_, v := opened(t, name)
			assert.Empty(t, v.About().Doubt)
		})
	}
}

// TestTheJournalOfNTFS: its map is doubted when the journal was not closed, and not when it was, or is empty.
func TestTheJournalOfNTFS(t *testing.T) {
	name, _ := made(t, shape{"ntfs", "ntfs", 64 << 20, "mkfs.ntfs -Q -q -F", "ntfsfix -n", 5, false})
	_, v := opened(t, name)
	assert.Empty(t, v.About().Doubt, "it is empty")
	const journal = 2
	pieces, err := v.Pieces(journal)
	require.NoError(t, err)
	for flags, doubt := range map[byte]string{0: "it was not unmounted", 2: ""} {
		page := make([]byte, 4096)
		copy(page, "RSTR")
		le := binary.LittleEndian
		le.PutUint16(page[4:], 30) // fixups, one for each sector
		le.PutUint16(page[6:], 9)
		le.PutUint32(page[16:], 4096)
		le.PutUint16(page[24:], 64)
		le.PutUint64(page[64:], 100)
		page[64+14] = flags
		for sector := 1; sector <= 8; sector++ {
			copy(page[sector*512-2:], page[30:32])
		}
		f, err := os.OpenFile(name, os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt(page, pieces[0].At)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		_, v := opened(t, name)
		assert.Equal(t, doubt, v.About().Doubt)
	}
}
