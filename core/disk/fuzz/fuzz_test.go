// Package fuzz has the fuzz targets of the formats of disks. It imports little: the engine counts at every execution what was reached in
// all that is linked, and with what the other tests import that alone would take most of the time.
package fuzz

import (
	"context"
	"encoding/binary"
	"strings"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage/memory"
	"bagaglio/core/transfer"
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

// p is what the fuzzer reads into: it is never looked at, and inputs run one after the other.
var p [fuzzRead]byte

// fuzz gives an image as the pages of it that are not zeros, each behind its number, and its length.
// mend sets checksums right, which the fuzzer would never find.
func fuzz(f *testing.F, format string, mend func(image mendable)) {
	room, err := disk.Lookup(format)
	must(f, err)
	base := "base" + room.Extensions[0]
	pool := &memory.Folder{} // with what stands on something stands on
	for _, seed := range append(written(f, room, pool, base), vectors(f, format)...) {
		f.Add(seed.pages, seed.length)
	}
	f.Fuzz(func(t *testing.T, pages []byte, length uint32) {
		folder := pool.Beside()
		make := func(name string) {
			image, err := folder.Create(name)
			must(t, err)
			size := int64(length % (fuzzSize + 1))
			must(t, image.Truncate(size))
			for rest := pages; len(rest) > 2; rest = rest[min(len(rest), 2+fuzzPage):] {
				at, page := int64(binary.LittleEndian.Uint16(rest))*fuzzPage, rest[2:min(len(rest), 2+fuzzPage)]
				if at+int64(len(page)) <= size {
					_, err := image.WriteAt(page, at)
					must(t, err)
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
		look(t, r)
	})
}

// look reads a disk, and asks whether what it says of itself holds.
func look(t *testing.T, r disk.Reader) {
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	if r.Describe().VirtualSize != r.Size() {
		t.Error("two virtual sizes")
	}
	if k, ok := r.(disk.Keeper); ok {
		_, _ = k.Kept(ctx) // what it finds does not matter, only that it ends
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
}

// FuzzBundle: the descriptor of a bundle folder is text that anybody can write.
func FuzzBundle(f *testing.F) {
	const descriptor = "disk.hdd/DiskDescriptor.xml"
	pool := &memory.Folder{}
	archived(f, func(name string, content []byte) {
		if name = strings.TrimPrefix(name, "images/hand-hdd-bundle/"); name == descriptor {
			f.Add(content)
		} else if strings.HasPrefix(name, "disk.hdd/") {
			put(f, pool, name, content)
		}
	})
	room, err := disk.Lookup("hdd")
	must(f, err)
	for _, bundle := range []string{"yes", "no"} {
		folder := &memory.Folder{}
		w, err := room.Create(
			disk.Target{Folder: folder, Name: "disk.hdd", Size: 1 << 20, Layout: room.Layouts[0].Name, Options: disk.Options{Bundle: bundle}},
		)
		must(f, err)
		must(f, w.Commit(f.Context()))
		if _, err := folder.Stat(descriptor); err == nil {
			f.Add(whole(f, folder, descriptor))
		}
	}
	f.Fuzz(func(t *testing.T, xml []byte) {
		folder := pool.Beside()
		put(t, folder, descriptor, xml)
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
		_, _ = r.ReadAt(p[:], 0) // an error is a fine answer
	})
}

func must(t testing.TB, err error) {
	if err != nil {
		t.Helper()
		t.Fatal(err)
	}
}
