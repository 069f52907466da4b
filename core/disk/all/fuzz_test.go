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
		b, err := os.ReadFile(filepath.Join(v.dir, file))
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
			add(i.File)
		}
	}
	for _, i := range v.Malformed {
		if i.Format == format {
			add(i.File)
		}
	}
	f.Fuzz(func(t *testing.T, pages []byte, length uint32) {
		image := make([]byte, length%(fuzzSize+1))
		for ; len(pages) > 2; pages = pages[min(len(pages), 2+fuzzPage):] {
			if at := int(binary.LittleEndian.Uint16(pages)) * fuzzPage; at < len(image) {
				copy(image[at:], pages[2:min(len(pages), 2+fuzzPage)])
			}
		}
		mend(image)
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), image, 0o600))
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
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
		_, _ = transfer.Run(ctx, r, nil, nil, &meter) // an error is a fine answer
		if meter.Read.Load() > r.Size() {
			t.Error("more was read than there is")
		}
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
