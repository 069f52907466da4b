package all

import (
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/memory"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/require"
)

// The parsers get the vectors, and whatever the fuzzer makes of them. Nothing may panic, hang or eat memory, and what a
// disk says of itself has to hold.

func FuzzQcow2(f *testing.F) { fuzz(f, "qcow2", nil) }
func FuzzHDD(f *testing.F)   { fuzz(f, "hdd", nil) }
func FuzzVDI(f *testing.F)   { fuzz(f, "vdi", nil) }
func FuzzVHD(f *testing.F)   { fuzz(f, "vhd", mendVHD) }
func FuzzVMDK(f *testing.F)  { fuzz(f, "vmdk", nil) }
func FuzzVHDX(f *testing.F)  { fuzz(f, "vhdx", mendVHDX) }

// An input is short, the image is sparse and in memory, and what is read of it is bounded: so thousands run in a second.
const (
	fuzzPage  = 512
	fuzzPages = 16      // of an image that are not zeros
	fuzzSize  = 8 << 20 // of an image
	fuzzRead  = 64 << 10
)

// fuzz gives an image as the pages of it that are not zeros, each behind its number, and its length.
// mend sets checksums right, which the fuzzer would never find.
func fuzz(f *testing.F, format string, mend func(image mendable)) {
	v := loadVectors(f)
	add := func(file string) {
		b, err := os.ReadFile(file)
		if err != nil { // a folder
			return
		}
		var pages []byte
		length := min(len(b), fuzzSize)
		for at := 0; at < length && len(pages) < fuzzPages*(2+fuzzPage); at += fuzzPage {
			if page := b[at:min(at+fuzzPage, length)]; !fingerprint.IsZero(page) {
				pages = append(binary.LittleEndian.AppendUint16(pages, uint16(at/fuzzPage)), page...)
			}
		}
		f.Add(pages, uint32(length))
	}
	for _, i := range v.Images {
		if i.Format == format {
			add(filepath.Join(v.dir, i.File))
		}
	}
	dir := f.TempDir()
	addWritten(f, format, dir, add)
	for _, i := range v.Malformed {
		if i.Format == format {
			add(filepath.Join(v.dir, i.File))
		}
	}
	room, err := disk.Lookup(format)
	require.NoError(f, err)
	base := "base" + room.Extensions[0]
	pool := &memory.Folder{}
	if below, err := os.ReadFile(filepath.Join(dir, base)); err == nil { // a layout of it stands on one
		file, err := pool.Create(base)
		require.NoError(f, err)
		_, err = file.WriteAt(below, 0)
		require.NoError(f, err)
	}
	f.Fuzz(func(t *testing.T, pages []byte, length uint32) {
		folder := pool.Beside()
		make := func(name string) {
			image, err := folder.Create(name)
			require.NoError(t, err)
			require.NoError(t, image.Truncate(int64(length%(fuzzSize+1))))
			for rest := pages; len(rest) > 2; rest = rest[min(len(rest), 2+fuzzPage):] {
				at, page := int64(binary.LittleEndian.Uint16(rest))*fuzzPage, rest[2:min(len(rest), 2+fuzzPage)]
				if at+int64(len(page)) <= int64(length%(fuzzSize+1)) {
					_, err := image.WriteAt(page, at)
					require.NoError(t, err)
				}
			}
			if mend != nil {
				mend(image)
			}
		}
		make("disk")
		if room.Rename != nil {
			make("named")
			_, _ = room.RenameIn(folder, "named", map[string]string{base: "harbour" + base}) // an error is a fine answer
		}
		r, err := disk.Open(t.Context(), folder, "disk", format)
		if err != nil {
			return
		}
		defer r.Close()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		if r.Describe().VirtualSize != r.Size() {
			t.Error("two virtual sizes")
		}
		if c, ok := r.(disk.Checker); ok {
			if err := c.Check(ctx); ctx.Err() != nil {
				t.Errorf("checking a file of 8 MiB took more than five seconds: %v", err)
			}
		}
		if r.Size() > fuzzRead { // reading on would measure the machine
			for _, off := range []int64{0, r.Size() / 2, r.Size() - fuzzRead} {
				_, _ = r.ReadAt(p[:], off)
				if e, err := r.Extent(off); err == nil && (e.Off != off || e.Len <= 0 || e.End() > r.Size()) {
					t.Errorf("extent %+v at %d of %d bytes", e, off, r.Size())
				}
			}
			return
		}
		var meter transfer.Meter
		_, _ = transfer.Transfer{Source: r, Meter: &meter}.Run(ctx) // an error is a fine answer
		if meter.Read.Load() > r.Size() {
			t.Error("more was read than there is")
		}
	})
}

// p is what the fuzzer reads into: it is never looked at, and inputs run one after the other.
var p [fuzzRead]byte

// addWritten adds an image of each layout that we write, and leaves in dir what those that stand on a base stand on.
func addWritten(f *testing.F, format, dir string, add func(file string)) {
	for _, l := range rows() {
		if l.format.Name != format {
			continue
		}
		made := f.TempDir()
		folder, err := local.Open(made)
		require.NoError(f, err)
		write(f, folder, l, content{size: 1 << 20, pieces: []piece{{64 << 10, noise(1, 100_000)}, {900_000, noise(2, 5000)}}})
		require.NoError(f, folder.Close())
		add(filepath.Join(made, l.fileName()))
		if l.Stands {
			require.NoError(f, os.Rename(filepath.Join(made, "base"+l.format.Extensions[0]), filepath.Join(dir, "base"+l.format.Extensions[0])))
		}
	}
}

// FuzzBundle: the descriptor of a bundle folder is text that anybody can write.
func FuzzBundle(f *testing.F) {
	for _, bundle := range []string{"yes", "no"} {
		l := layout{format: rows()[len(rows())-1].format, Layout: rows()[len(rows())-1].Layout, options: disk.Options{Bundle: bundle}}
		folder := fresh(f)
		write(f, folder, l, content{size: 1 << 20})
		if file, err := folder.Open(l.fileName() + "/DiskDescriptor.xml"); err == nil {
			size, err := file.Size()
			require.NoError(f, err)
			b := make([]byte, size)
			_, err = file.ReadAt(b, 0)
			require.NoError(f, err)
			f.Add(b)
			require.NoError(f, file.Close())
		}
	}
	v := loadVectors(f)
	inside := filepath.Join(v.dir, "images/hand-hdd-bundle/disk.hdd")
	descriptor, err := os.ReadFile(filepath.Join(inside, "DiskDescriptor.xml"))
	require.NoError(f, err)
	f.Add(descriptor)
	f.Fuzz(func(t *testing.T, xml []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(inside, "DiskDescriptor.xml"), xml, 0o600))
		folder, err := local.Open(filepath.Dir(inside))
		require.NoError(t, err)
		defer folder.Close()
		r, err := disk.Open(t.Context(), folder, "disk.hdd", "")
		if err != nil {
			return
		}
		defer r.Close()
		for _, name := range r.Describe().Files {
			if _, err := folder.Stat(name); err != nil {
				t.Errorf("it says that %q is a file of the disk: %v", name, err)
			}
		}
		_, _ = r.ReadAt(make([]byte, 1<<20), 0) // an error is a fine answer
	})
}

// mendable is an image whose checksums can be set right.
type mendable interface {
	io.ReaderAt
	io.WriterAt
	Size() (int64, error)
}

// inSlice is one in a slice.
type inSlice []byte

func (b inSlice) Size() (int64, error) { return int64(len(b)), nil }

func (b inSlice) ReadAt(p []byte, off int64) (int, error) { return copy(p, b[off:]), nil }

func (b inSlice) WriteAt(p []byte, off int64) (int, error) { return copy(b[off:], p), nil }

// window is a part of an image, nil where the image ends before it.
func window(image mendable, at, length int64) []byte {
	size, err := image.Size()
	if err != nil || at < 0 || at+length > size {
		return nil
	}
	b := make([]byte, length)
	if _, err := image.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
		return nil
	}
	return b
}

func mendVHD(image mendable) {
	n, _ := image.Size() // never fails in memory
	for _, part := range []struct{ at, len, field int64 }{{0, 512, 64}, {512, 1024, 36}, {n - 512, 512, 64}} {
		b := window(image, part.at, part.len)
		if b == nil {
			continue
		}
		clear(b[part.field:][:4])
		var sum uint32
		for _, c := range b {
			sum += uint32(c)
		}
		_, _ = image.WriteAt(binary.BigEndian.AppendUint32(nil, ^sum), part.at+part.field) // likewise
	}
}

func mendVHDX(image mendable) {
	table := crc32.MakeTable(crc32.Castagnoli)
	for _, part := range []struct{ at, len int64 }{{64 << 10, 4 << 10}, {128 << 10, 4 << 10}, {192 << 10, 64 << 10}, {256 << 10, 64 << 10}} {
		b := window(image, part.at, part.len)
		if b == nil {
			continue
		}
		clear(b[4:8])
		_, _ = image.WriteAt(binary.LittleEndian.AppendUint32(nil, crc32.Checksum(b, table)), part.at+4) // likewise
	}
}
