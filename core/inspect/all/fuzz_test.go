package all

import (
	"bytes"
	"compress/gzip"
	"context"
	"embed"
	"encoding/binary"
	"io"
	"io/fs"
	"path"
	"strings"
	"testing"

	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"

	"github.com/stretchr/testify/require"
)

//go:embed testdata
var whole embed.FS

// kinds are those of the images in testdata, which the system's own tools made.
var kinds = []string{"btrfs", "exfat", "ext2", "ext4", "fat12", "fat32", "iso9660", "ntfs", "xfs"}

const page = 4096

// sparse is a disk of which only pages are kept that have something on them.
type sparse struct {
	size  int64
	pages map[int64][]byte
	used  []int64 // numbers of pages, ascending
	over  *sparse // what it is on, nil for one that is whole
}

func (s *sparse) Size() int64 { return s.size }

func (s *sparse) ReadAt(b []byte, off int64) (int, error) {
	for done := 0; done < len(b); {
		at := off + int64(done)
		if at >= s.size {
			return done, io.EOF
		}
		n := min(len(b)-done, int(page-at%page))
		into := b[done : done+n]
		clear(into)
		for layer := s; layer != nil; layer = layer.over {
			if p, ok := layer.pages[at/page]; ok {
				copy(into, p[at%page:])
				break
			}
		}
		done += n
	}
	return len(b), nil
}

// kept reads an image of testdata.
func kept(t testing.TB, kind string) *sparse {
	t.Helper()
	packed, err := whole.ReadFile("testdata/" + kind + ".gz")
	require.NoError(t, err)
	r, err := gzip.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	s := &sparse{pages: map[int64][]byte{}}
	for {
		p := make([]byte, page)
		n, err := io.ReadFull(r, p)
		if n > 0 && !bytes.Equal(p, make([]byte, page)) {
			s.pages[s.size/page] = p
			s.used = append(s.used, s.size/page)
		}
		s.size += int64(n)
		if err != nil {
			return s
		}
	}
}

// damaged is the image with bytes changed, four at a time for where, in what is used, and one for what to.
func (s *sparse) damaged(patches []byte) *sparse {
	d := &sparse{size: s.size, pages: map[int64][]byte{}, over: s}
	for ; len(patches) >= 5; patches = patches[5:] {
		at := binary.LittleEndian.Uint32(patches)
		number := s.used[int64(at/page)%int64(len(s.used))]
		if d.pages[number] == nil {
			d.pages[number] = bytes.Clone(s.pages[number])
		}
		d.pages[number][at%page] = patches[4]
	}
	return d
}

// visit does everything with a filesystem that can be done, up to a bound.
func visit(ctx context.Context, d inspect.Disk, kind string) (files int, err error) {
	v, err := inspect.Mount(d, kind, 0, d.Size())
	if err != nil {
		return 0, err
	}
	_ = v.About()
	_ = v.Used(ctx, func(fingerprint.Range) error { return nil })
	inspect.Hits(ctx, d, []fingerprint.Range{{Offset: d.Size() / 3, Length: 1 << 20}}, true)
	left := 500
	return files, fs.WalkDir(v, ".", func(name string, e fs.DirEntry, err error) error {
		if left--; left < 0 || strings.Count(name, "/") > 30 {
			return fs.SkipAll
		}
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		f, err := v.Open(name)
		if err != nil {
			return nil
		}
		defer f.Close()
		if n, err := io.CopyN(io.Discard, f, 64<<10); n > 0 || err == nil {
			files++
		}
		return nil
	})
}

// FuzzVolumes: whatever is changed in a filesystem, it is read or refused, in bounds.
func FuzzVolumes(f *testing.F) {
	images := map[string]*sparse{}
	for i, kind := range kinds {
		images[kind] = kept(f, kind)
		f.Add(byte(i), []byte{})
		f.Add(byte(i), []byte{0x04, 0x04, 0, 0, 0xff})
		f.Add(byte(i), []byte{0x40, 0x10, 0, 0, 0x80, 0x00, 0x20, 0, 0, 0x01})
	}
	f.Fuzz(func(t *testing.T, kind byte, patches []byte) {
		name := kinds[int(kind)%len(kinds)]
		_, _ = visit(t.Context(), images[name].damaged(patches[:min(len(patches), 500)]), name)
	})
}

// TestKeptImages are read whole where nothing is changed, so that what is fuzzed is what is meant.
func TestKeptImages(t *testing.T) {
	for _, kind := range kinds {
		d := kept(t, kind)
		files, err := visit(t.Context(), d, kind)
		require.NoError(t, err, kind)
		require.Equal(t, 42, files, kind)
		v, err := inspect.Mount(d, kind, 0, d.Size())
		require.NoError(t, err)
		text, err := fs.ReadFile(v, path.Join("crew", "roster.db"))
		require.NoError(t, err)
		require.Equal(t, "roster of the crew\n", string(text))
	}
}
