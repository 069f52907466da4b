package fuzz

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage/memory"

	"github.com/klauspost/compress/zstd"
)

// seed is an input of fuzz.
type seed struct {
	pages  []byte
	length uint32
}

// seedOf reads an image of that length up to its first pages that are not zeros.
func seedOf(t testing.TB, image io.Reader, size int64) seed {
	s := seed{length: uint32(min(size, fuzzSize))}
	page := make([]byte, fuzzPage)
	for at := range uint16(s.length / fuzzPage) {
		_, err := io.ReadFull(image, page)
		must(t, err)
		if len(s.pages) < fuzzPages*(2+fuzzPage) && !fingerprint.IsZero(page) {
			s.pages = append(binary.LittleEndian.AppendUint16(s.pages, at), page...)
		}
	}
	if rest, err := io.ReadAll(io.LimitReader(image, int64(s.length%fuzzPage))); err == nil && len(rest) > 0 {
		s.pages = append(binary.LittleEndian.AppendUint16(s.pages, uint16(s.length/fuzzPage)), rest...)
	}
	return s
}

// archived goes through the files that real hypervisors wrote, and the damaged ones.
func archived(t testing.TB, file func(name string, content []byte)) {
	f, err := os.Open("../all/testdata/vectors.tar.zst")
	must(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	must(t, err)
	defer z.Close()
	for archive := tar.NewReader(z); ; {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		must(t, err)
		if h.Typeflag == tar.TypeReg || h.Typeflag == tar.TypeGNUSparse {
			content := make([]byte, min(h.Size, fuzzSize))
			_, err := io.ReadFull(archive, content)
			must(t, err)
			file(path.Clean(h.Name), content)
		}
	}
}

// vectors are seeds made from archived images of a format.
func vectors(t testing.TB, format string) (out []seed) {
	var index struct {
		Images, Malformed []struct{ Format, File string }
	}
	files := map[string]seed{}
	archived(t, func(name string, content []byte) {
		if name == "index.json" {
			must(t, json.Unmarshal(content, &index))
			return
		}
		files[name] = seedOf(t, bytes.NewReader(content), int64(len(content)))
	})
	for _, i := range append(index.Images, index.Malformed...) {
		if s, ok := files[path.Clean(i.File)]; ok && i.Format == format {
			out = append(out, s)
		}
	}
	return out
}

// written are seeds made from an image of each layout that we write. What one of them stands on is left in pool.
func written(t testing.TB, format disk.Format, pool *memory.Folder, base string) (out []seed) {
	noise := make([]byte, 100_000)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(noise) // never fails
	for _, l := range format.Layouts {
		folder := pool.Beside()
		target := disk.Target{Folder: folder, Name: "disk" + format.Extensions[0], Size: 1 << 20, Layout: l.Name, Identifier: [16]byte{1, 2, 3}}
		if l.Stands {
			if _, err := pool.Stat(base); err != nil {
				w, err := format.Create(
					disk.Target{Folder: pool, Name: base, Size: 1 << 20, Layout: format.Layouts[0].Name, Identifier: [16]byte{4, 5}},
				)
				must(t, err)
				must(t, w.Commit(t.Context()))
				folder = pool.Beside()
				target.Folder = folder
			}
			below, err := disk.Open(t.Context(), pool, base, format.Name)
			must(t, err)
			target.BaseName, target.Base = base, below
		}
		w, err := format.Create(target)
		must(t, err)
		for _, off := range []int64{64 << 10, 900_000} {
			_, err = w.WriteAt(noise, off)
			must(t, err)
		}
		must(t, w.Commit(t.Context()))
		for _, name := range w.Files() {
			content := whole(t, folder, name)
			out = append(out, seedOf(t, bytes.NewReader(content), int64(len(content))))
		}
	}
	return out
}

// whole is what is in a file.
func whole(t testing.TB, folder *memory.Folder, name string) []byte {
	file, err := folder.Open(name)
	must(t, err)
	size, err := file.Size()
	must(t, err)
	content := make([]byte, size)
	must(t, disk.ReadFull(file, content, 0))
	return content
}

// put makes a file.
func put(t testing.TB, folder *memory.Folder, name string, content []byte) {
	file, err := folder.Create(name)
	must(t, err)
	_, err = file.WriteAt(content, 0)
	must(t, err)
}
