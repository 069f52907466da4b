package archive

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"path"
	"testing"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// put has a file in a folder.
func put(t testing.TB, folder storage.Folder, name string, content []byte) {
	t.Helper()
	require.NoError(t, storage.WriteFile(folder, name, content))
}

// get reads a whole file.
func get(t testing.TB, folder storage.Folder, name string) []byte {
	t.Helper()
	f, err := folder.Open(name)
	require.NoError(t, err)
	defer f.Close()
	size, err := f.Size()
	require.NoError(t, err)
	b, err := io.ReadAll(io.NewSectionReader(f, 0, size))
	require.NoError(t, err)
	return b
}

// TestWhatIsWrittenIsRead, by us and by whoever else reads archives: files of known lengths and of such that grow, written in any order and cut again.
func TestWhatIsWrittenIsRead(t *testing.T) {
	random := rand.New(rand.NewPCG(18, 2))
	for round := range 200 {
		folder := &memory.Folder{}
		file, err := folder.Create("deck/crew.ova")
		require.NoError(t, err)
		w := NewWriter(file, time.Unix(1_790_000_000, 5))
		var names []string
		want := map[string][]byte{}
		var later []func()
		for i := range 1 + random.IntN(5) {
			name := fmt.Sprintf("crew-%d.vmdk", i)
			content := make([]byte, random.IntN(3000))
			for j := range content {
				content[j] = byte(random.Uint32())
			}
			names, want[name] = append(names, name), content
			if random.IntN(2) == 0 {
				e, err := w.Reserve(name, int64(len(content)))
				require.NoError(t, err)
				later = append(later, func() {
					_, err := e.WriteAt(content, 0)
					require.NoError(t, err)
				})
				continue
			}
			into := w.Into()
			f, err := into.Create(name)
			require.NoError(t, err)
			_, err = into.Create("another")
			require.Error(t, err)
			for _, at := range random.Perm(len(content)) { // in any order
				_, err := f.WriteAt(content[at:at+1], int64(at))
				require.NoError(t, err)
			}
			_, err = f.WriteAt([]byte("too much"), int64(len(content)))
			require.NoError(t, err)
			require.NoError(t, f.Truncate(int64(len(content))))
			require.NoError(t, into.Made().Done())
		}
		for _, do := range later {
			do()
		}
		require.NoError(t, w.Finish())

		whole := get(t, folder, "deck/crew.ova")
		r := tar.NewReader(bytes.NewReader(whole))
		for _, name := range names {
			h, err := r.Next()
			require.NoError(t, err)
			assert.Equal(t, name, h.Name)
			b, err := io.ReadAll(r)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want[name], b), "round %d, %s", round, name)
		}
		_, err = r.Next()
		require.ErrorIs(t, err, io.EOF)
		inside, err := Open(folder, "deck/crew.ova")
		require.NoError(t, err)
		list, err := inside.List("deck/crew.ova")
		require.NoError(t, err)
		require.Len(t, list, len(names))
		for _, name := range names {
			require.True(t, bytes.Equal(want[name], get(t, inside, path.Join("deck/crew.ova", name))))
		}
	}
}

// TestALargeFile of an archive is longer than headers of old could tell.
func TestALargeFile(t *testing.T) {
	folder := &memory.Folder{}
	file, err := folder.Create("large.ova")
	require.NoError(t, err)
	w := NewWriter(file, time.Now())
	const size = 9 << 30
	e, err := w.Reserve("disk.vmdk", size)
	require.NoError(t, err)
	_, err = e.WriteAt([]byte("end"), size-3)
	require.NoError(t, err)
	_, err = w.Reserve("crew.ovf", 10)
	require.NoError(t, err)
	require.NoError(t, w.Finish())
	inside, err := Open(folder, "large.ova")
	require.NoError(t, err)
	info, err := inside.Stat("large.ova/disk.vmdk")
	require.NoError(t, err)
	assert.EqualValues(t, size, info.Size)
	f, err := inside.Open("large.ova/disk.vmdk")
	require.NoError(t, err)
	b := make([]byte, 3)
	_, err = f.ReadAt(b, size-3)
	require.NoError(t, err)
	assert.Equal(t, "end", string(b))
	_, err = w.Reserve(string(bytes.Repeat([]byte("n"), 200)), 1)
	require.ErrorContains(t, err, "cannot encode")
}

// malformed are archives that are damaged, incomplete or hostile, by what is wrong with them.
func malformed(t testing.TB) map[string][]byte {
	t.Helper()
	made := func(heads ...*tar.Header) []byte {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for _, h := range heads {
			if h.Mode = 0o644; h.Typeflag == 0 {
				h.Typeflag = tar.TypeReg
			}
			require.NoError(t, w.WriteHeader(h))
			_, err := w.Write(make([]byte, h.Size))
			require.NoError(t, err)
		}
		_ = w.Flush() // an end is put behind by hand
		return append(out.Bytes(), make([]byte, 1024)...)
	}
	all := map[string][]byte{"empty file": {}, "text": []byte("no archive at all, but a text that is long enough to be looked at")}
	for kind, name := range map[byte]string{
		tar.TypeSymlink: "symbolic link", tar.TypeLink: "hard link", tar.TypeChar: "character device", tar.TypeBlock: "block device", tar.TypeFifo: "pipe",
	} {
		all[name] = made(&tar.Header{Name: "crew.ovf", Typeflag: kind, Linkname: "/etc/passwd"})
	}
	for _, name := range []string{"../crew.ovf", "/crew.ovf", "a/../../crew.ovf", "..", "a\nb", "./../x"} {
		all["name "+name] = made(&tar.Header{Name: name, Size: 4})
	}
	all["twice"] = made(&tar.Header{Name: "crew.ovf", Size: 4}, &tar.Header{Name: "crew.ovf", Size: 4})
	all["twice, written otherwise"] = made(&tar.Header{Name: "crew.ovf", Size: 4}, &tar.Header{Name: "./crew.ovf", Size: 4})
	good := made(&tar.Header{Name: "crew.ovf", Size: 700}, &tar.Header{Name: "disk.vmdk", Size: 5000})
	for n := 1; n < 30; n++ { // of the second file, or within a header
		if at := len(good) - 1024 - n*200; at%512 != 0 && at > 2048 || at > 512 && at < 1212 {
			all[fmt.Sprintf("cut at %d", at)] = good[:at]
		}
	}
	for at := 0; at < 512; at += 16 { // its checksum holds all of that together
		b := bytes.Clone(good)
		b[at] ^= 0x15
		all[fmt.Sprintf("header damaged at %d", at)] = b
	}
	return all
}

// TestMalformedArchives are refused, each with a reason.
func TestMalformedArchives(t *testing.T) {
	all := malformed(t)
	assert.GreaterOrEqual(t, len(all), 60)
	for name, b := range all {
		folder := &memory.Folder{}
		put(t, folder, "crew.ova", b)
		inside, err := Open(folder, "crew.ova")
		if name == "empty file" { // which has nothing in it
			require.NoError(t, err)
			_, err = inside.Stat("crew.ova/crew.ovf")
			require.ErrorIs(t, err, fs.ErrNotExist)
			continue
		}
		require.Error(t, err, name)
	}
}

// TestArchivesAreOnlyRead, and names that lead into one are told apart.
func TestArchivesAreOnlyRead(t *testing.T) {
	folder := &memory.Folder{}
	file, err := folder.Create("crew.ova")
	require.NoError(t, err)
	w := NewWriter(file, time.Now())
	_, err = w.Reserve("crew.ovf", 3)
	require.NoError(t, err)
	require.NoError(t, w.Finish())
	f, err := Open(folder, "crew.ova")
	require.NoError(t, err)
	_, err = f.Create("crew.ova/x")
	require.Error(t, err)
	require.Error(t, f.Rename("crew.ova/crew.ovf", "crew.ova/x"))
	require.Error(t, f.Remove("crew.ova/crew.ovf"))
	space, err := f.Space()
	require.NoError(t, err)
	assert.True(t, space.ReadOnly)
	for name, want := range map[string][3]string{
		"a/crew.ova/crew.ovf": {"a/crew.ova", "crew.ovf", "yes"}, "crew.OVA/x/y": {"crew.OVA", "x/y", "yes"}, "crew.ova": {"", "", ""}, "a/b.ovf": {"", "", ""},
	} {
		outer, inner, ok := Split(name)
		assert.Equal(t, want, [3]string{outer, inner, map[bool]string{true: "yes"}[ok]}, name)
	}
	put(t, folder, "folder.ova/disk.raw", []byte("disk"))
	for name, want := range map[string]storage.Folder{"folder.ova/disk.raw": folder, "disk.raw": folder, "missing.ova/disk.raw": folder} {
		in, err := In(folder, name)
		require.NoError(t, err)
		assert.Same(t, want, in, name)
	}
	in, err := In(folder, "crew.ova/crew.ovf")
	require.NoError(t, err)
	assert.NotSame(t, folder, in)
}

// FuzzArchive looks through archives that anybody wrote.
func FuzzArchive(f *testing.F) {
	for _, b := range malformed(f) {
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		folder := &memory.Folder{}
		put(t, folder, "crew.ova", b)
		inside, err := Open(folder, "crew.ova")
		if err != nil {
			return
		}
		for _, e := range inside.entries {
			content := get(t, inside, e.name)
			assert.Len(t, content, int(e.len))
			assert.Equal(t, b[e.off:e.off+e.len], content)
		}
	})
}
