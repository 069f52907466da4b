package all

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// world makes a folder with what filesystems have, at random.
type world struct {
	*rand.Rand
	dir   string
	names []string // of files, as seen from dir
}

// odd are names that shells and archives trip over.
var odd = []string{"plain", "-rf", "with space", "new\nline", "quote'", "*", "\xff\xfe", "..x", "tab\t", "\\", strings.Repeat("long", 60)}

func (w *world) fill(t *testing.T) {
	t.Helper()
	dirs := []string{"."}
	for i := range 4 + w.IntN(40) {
		name := filepath.Join(dirs[w.IntN(len(dirs))], fmt.Sprintf("%s%d", odd[w.IntN(len(odd))], i))
		at := filepath.Join(w.dir, name)
		switch w.IntN(8) {
		case 0:
			require.NoError(t, os.Mkdir(at, 0o700))
			dirs = append(dirs, name)
		case 1:
			require.NoError(t, os.Symlink(odd[w.IntN(len(odd))], at))
		case 2:
			require.NoError(t, unix.Mkfifo(at, 0o600))
		case 3:
			if len(w.names) > 0 {
				require.NoError(t, os.Link(filepath.Join(w.dir, w.names[w.IntN(len(w.names))]), at))
			}
		case 4:
			require.NoError(t, os.WriteFile(at, []byte("a"), 0o600))
			require.NoError(t, os.Truncate(at, w.Int64N(8<<20)))
			w.names = append(w.names, name)
		default:
			content := make([]byte, w.IntN(200_000))
			for i := range content {
				content[i] = byte(w.Uint32())
			}
			require.NoError(t, os.WriteFile(at, content, 0o600))
			w.names = append(w.names, name)
		}
	}
	for _, name := range append(w.names, dirs...) {
		at := filepath.Join(w.dir, name)
		if os.Getuid() == 0 {
			require.NoError(t, unix.Lchown(at, w.IntN(70000), w.IntN(70000)))
		}
		require.NoError(t, os.Chmod(at, os.FileMode(w.IntN(0o1000))|0o400|[]os.FileMode{0, os.ModeSetuid, os.ModeSticky}[w.IntN(3)]))
		if w.IntN(3) == 0 {
			err := unix.Lsetxattr(at, "user.berth", []byte(odd[w.IntN(len(odd))]), 0)
			if !errors.Is(err, unix.ENOTSUP) {
				require.NoError(t, err)
			}
		}
		require.NoError(t, os.Chtimes(at, time.Time{}, time.Unix(w.Int64N(2e9), w.Int64N(1e9))))
	}
}

// change changes one thing of it, and says what.
func (w *world) change(t *testing.T) string {
	t.Helper()
	at := filepath.Join(w.dir, w.names[w.IntN(len(w.names))])
	was, err := os.Lstat(at)
	require.NoError(t, err)
	switch w.IntN(6) {
	case 0:
		require.NoError(t, os.WriteFile(filepath.Join(w.dir, "more"), nil, 0o600))
		return "a new file"
	case 1:
		require.NoError(t, os.Remove(at))
		return "a file less"
	case 2:
		require.NoError(t, os.Chmod(at, was.Mode().Perm()^0o040))
		return "a right"
	case 3: // the time is put back
		f, err := os.OpenFile(at, os.O_WRONLY|os.O_APPEND, 0)
		if err != nil { // only root reads what it may not
			return w.change(t)
		}
		_, err = f.WriteString("!")
		require.NoError(t, errors.Join(err, f.Close(), os.Chtimes(at, time.Time{}, was.ModTime())))
		return "content"
	case 4:
		require.NoError(t, os.Chtimes(at, time.Time{}, was.ModTime().Add(time.Nanosecond)))
		return "a time"
	default:
		require.NoError(t, os.Rename(at, at+"."))
		return "a name"
	}
}

func packed(t *testing.T, from storage.Trees, name string, fresh bool) (*fingerprint.Tree, []byte) {
	t.Helper()
	var archive bytes.Buffer
	require.NoError(t, from.Pack(t.Context(), name, &archive, fresh))
	sum, err := fingerprint.ReadTree(bytes.NewReader(archive.Bytes()))
	require.NoError(t, err)
	return sum, archive.Bytes()
}

// TestFoldersAreCarriedWhole: whatever a folder has arrives with everything that its filesystem keeps of it, from each kind of storage to each; and whatever
// is changed there, one thing at a time, changes the fingerprint and what a look tells.
func TestFoldersAreCarriedWhole(t *testing.T) {
	here, at := kinds[0].open(t)
	far, there := kinds[1].open(t)
	type place struct {
		storage.Folder
		dir string
	}
	for seed := range uint64(24) {
		w := &world{Rand: rand.New(rand.NewPCG(seed, 1))}
		from, to := place{here, at}, place{far, there}
		if seed%2 == 1 {
			from, to = to, from
		}
		name := fmt.Sprintf("mess %d", seed)
		w.dir = filepath.Join(from.dir, name)
		require.NoError(t, os.Mkdir(w.dir, 0o755))
		w.fill(t)
		source, ok := storage.As[storage.Trees](from.Folder)
		require.True(t, ok)
		dest, ok := storage.As[storage.Trees](to.Folder)
		require.True(t, ok)
		before, err := source.Tree(t.Context(), name)
		require.NoError(t, err)
		sum, archive := packed(t, source, name, false)
		assert.EqualValues(t, before.Entries+1, sum.Entries())
		require.NoError(t, dest.Unpack(t.Context(), "deck/"+name, bytes.NewReader(archive)))
		require.Error(t, dest.Unpack(t.Context(), "deck/"+name, bytes.NewReader(archive)), "it exists")
		back, _ := packed(t, dest, "deck/"+name, true)
		require.Equal(t, sum.String(), back.String(), "seed %d: %v", seed, sum.Differing(back, 5))
		assert.Empty(t, sum.Differing(back, 5))
		made, err := dest.Tree(t.Context(), "deck/"+name)
		require.NoError(t, err)
		assert.Equal(t, [2]int64{before.Entries, before.Size}, [2]int64{made.Entries, made.Size})
		require.NoError(t, to.Rename("deck/"+name, "deck/after "+name))
		renamed, err := dest.Tree(t.Context(), "deck/after "+name)
		require.NoError(t, err)
		assert.Equal(t, made.Seen, renamed.Seen, "its own name is no matter")
		still, err := source.Tree(t.Context(), name)
		require.NoError(t, err)
		assert.Equal(t, before.Seen, still.Seen, "it was only read")
		if len(w.names) == 0 {
			continue
		}
		changed := w.change(t)
		now, err := source.Tree(t.Context(), name)
		require.NoError(t, err)
		assert.NotEqual(t, before.Seen, now.Seen, changed)
		other, _ := packed(t, source, name, false)
		assert.NotEqual(t, sum.String(), other.String(), changed)
		assert.NotEmpty(t, sum.Differing(other, 5), changed)
	}
}

// TestWhatAFolderCannotBe: what is no folder, what is cut off, and what was mounted inside is told.
func TestWhatAFolderCannotBe(t *testing.T) {
	for _, k := range kinds[:2] {
		t.Run(k.name, func(t *testing.T) {
			f, dir := k.open(t)
			trees, ok := storage.As[storage.Trees](f)
			require.True(t, ok)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
			_, err := trees.Tree(t.Context(), "file")
			require.ErrorContains(t, err, "is no folder")
			_, err = trees.Tree(t.Context(), "nowhere")
			require.ErrorIs(t, err, os.ErrNotExist)
			require.Error(t, trees.Unpack(t.Context(), "../out", strings.NewReader("")))

			require.NoError(t, os.Mkdir(filepath.Join(dir, "mess"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "mess/log"), bytes.Repeat([]byte("log"), 10000), 0o600))
			socket, err := net.Listen("unix", filepath.Join(dir, "mess/s"))
			require.NoError(t, err)
			defer socket.Close()
			is, err := trees.Tree(t.Context(), "mess")
			require.NoError(t, err)
			assert.EqualValues(t, 1, is.Sockets)
			var archive bytes.Buffer
			require.NoError(t, trees.Pack(t.Context(), "mess", &archive, false))
			cut := archive.Bytes()[:archive.Len()/2]
			require.Error(t, trees.Unpack(t.Context(), "half", bytes.NewReader(cut)))
			_, err = fingerprint.ReadTree(bytes.NewReader(cut))
			require.Error(t, err)

			require.NoError(t, os.Mkdir(filepath.Join(dir, "mess/proc"), 0o755))
			if err := unix.Mount("tmpfs", filepath.Join(dir, "mess/proc"), "tmpfs", 0, ""); err != nil {
				t.Skipf("this computer mounts nothing for us: %v", err)
			}
			t.Cleanup(func() { assert.NoError(t, unix.Unmount(filepath.Join(dir, "mess/proc"), 0)) })
			is, err = trees.Tree(t.Context(), "mess")
			require.NoError(t, err)
			assert.Equal(t, []string{"proc"}, is.Mounts)
		})
	}
}
