package all

import (
	"context"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/require"
)

// The parsers get the vectors, and whatever the fuzzer makes of them. Nothing may panic, hang or eat memory, and what a
// disk says of itself has to hold.

func FuzzQcow2(f *testing.F) { fuzz(f, "qcow2", func([]byte) {}) }
func FuzzHDD(f *testing.F)   { fuzz(f, "hdd", func([]byte) {}) }
func FuzzVDI(f *testing.F)   { fuzz(f, "vdi", func([]byte) {}) }
func FuzzVHD(f *testing.F)   { fuzz(f, "vhd", mendVHD) }
func FuzzVMDK(f *testing.F)  { fuzz(f, "vmdk", func([]byte) {}) }
func FuzzVHDX(f *testing.F)  { fuzz(f, "vhdx", mendVHDX) }

const (
	fuzzPage  = 4 << 10
	fuzzPages = 40      // of an image that are not zeros
	fuzzSize  = 8 << 20 // of an image
)

// fuzz gives an image as the pages of it that are not zeros, each behind its number, and its length; so inputs stay short.
// mend sets checksums right, which the fuzzer would never find.
func fuzz(f *testing.F, format string, mend func(image []byte)) {
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
	f.Fuzz(func(t *testing.T, pages []byte, length uint32) {
		image := make([]byte, length%(fuzzSize+1))
		for ; len(pages) > 2; pages = pages[min(len(pages), 2+fuzzPage):] {
			if at := int(binary.LittleEndian.Uint16(pages)) * fuzzPage; at < len(image) {
				copy(image[at:], pages[2:min(len(pages), 2+fuzzPage)])
			}
		}
		mend(image)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), image, 0o600))
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
		if room.Rename != nil {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "named"), image, 0o600))
			_, _ = room.RenameIn(folder, "named", map[string]string{base: "harbour" + base}) // an error is a fine answer
		}
		r, err := disk.Open(t.Context(), folder, "disk", format)
		if err != nil {
			return
		}
		defer r.Close()
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if r.Describe().VirtualSize != r.Size() {
			t.Error("two virtual sizes")
		}
		if c, ok := r.(disk.Checker); ok {
			_ = c.Check(ctx) // an error is a fine answer
		}
		if r.Size() > 16<<20 { // reading on would measure the machine
			_, _ = r.ReadAt(make([]byte, 4<<20), r.Size()/2)
			return
		}
		var meter transfer.Meter
		_, _ = transfer.Transfer{Source: r, Meter: &meter}.Run(ctx) // an error is a fine answer
		if meter.Read.Load() > r.Size() {
			t.Error("more was read than there is")
		}
	})
}

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

func mendVHD(image []byte) {
	n := len(image)
	for _, part := range []struct{ at, len, field int }{{0, 512, 64}, {512, 1024, 36}, {n - 512, 512, 64}} {
		if part.at < 0 || part.at+part.len > n {
			continue
		}
		b := image[part.at:][:part.len]
		clear(b[part.field:][:4])
		var sum uint32
		for _, c := range b {
			sum += uint32(c)
		}
		binary.BigEndian.PutUint32(b[part.field:], ^sum)
	}
}

func mendVHDX(image []byte) {
	table := crc32.MakeTable(crc32.Castagnoli)
	for _, part := range []struct{ at, len int }{{64 << 10, 4 << 10}, {128 << 10, 4 << 10}, {192 << 10, 64 << 10}, {256 << 10, 64 << 10}} {
		if part.at+part.len > len(image) {
			continue
		}
		b := image[part.at:][:part.len]
		clear(b[4:8])
		binary.LittleEndian.PutUint32(b[4:], crc32.Checksum(b, table))
	}
}
