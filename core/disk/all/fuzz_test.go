package all

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/require"
)

// The parsers get the vectors, and whatever the fuzzer makes of them. Nothing may panic, hang or eat memory, and what a
// disk says of itself has to hold.

func FuzzQcow2(f *testing.F) { fuzz(f, "qcow2") }
func FuzzVHD(f *testing.F)   { fuzz(f, "vhd") }

// An image is given as its head, a run of zeros, and its tail, so that inputs stay short.
func fuzz(f *testing.F, format string) {
	v := loadVectors(f)
	add := func(file string) {
		b, err := os.ReadFile(filepath.Join(v.dir, file))
		if err != nil || len(b) < 1024 { // a folder, or nothing to learn from
			return
		}
		head := b[:min(len(b)-512, 160<<10)]
		f.Add(head, uint32(len(b)-512-len(head)), b[len(b)-512:])
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
	f.Fuzz(func(t *testing.T, head []byte, zeros uint32, tail []byte) {
		dir := t.TempDir()
		file, err := os.Create(filepath.Join(dir, "disk"))
		require.NoError(t, err)
		_, errHead := file.Write(head)
		_, errTail := file.WriteAt(tail, int64(len(head))+int64(zeros%(16<<20)))
		require.NoError(t, errors.Join(errHead, errTail, file.Close()))
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
		_, _ = transfer.Run(ctx, r, nil, &meter) // an error is a fine answer
		if meter.Read.Load() > r.Size() {
			t.Error("more was read than there is")
		}
	})
}
