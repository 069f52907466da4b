package all

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// vectors are images that real hypervisors wrote, and damaged ones.
type vectors struct {
	dir    string
	Images []struct {
		ID           string
		Format       string
		File         string
		VirtualSize  int64   `json:"virtual_size"`
		SHA256       *string // of the content; nil above 1 GiB
		SparseSHA256 string  `json:"sparse_sha256"`
		Snapshots    []struct {
			Name         string
			SparseSHA256 string `json:"sparse_sha256"`
		}
	}
	Malformed []struct {
		ID, Format, File, Damage string
		Expect                   string // error, content, error-or-content
		Stage                    string // where an error is due at the latest: open, read, check, any
	}
}

func loadVectors(t testing.TB) vectors {
	t.Helper()
	f, err := os.Open("testdata/vectors.tar.zst")
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer z.Close()
	v := vectors{dir: t.TempDir()}
	for archive := tar.NewReader(z); ; {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		path := filepath.Join(v.dir, filepath.Clean("/"+h.Name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
			unpack(t, path, archive, h.Size)
		case tar.TypeSymlink:
			require.NoError(t, os.Symlink(h.Linkname, path))
		}
	}
	b, err := os.ReadFile(filepath.Join(v.dir, "index.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &v))
	return v
}

// unpack writes a file and leaves holes where it is zeros.
func unpack(t testing.TB, path string, from io.Reader, size int64) {
	out, err := os.Create(path)
	require.NoError(t, err)
	defer out.Close()
	require.NoError(t, out.Truncate(size))
	b := make([]byte, 64<<10)
	for at := int64(0); at < size; {
		n, err := io.ReadFull(from, b[:min(int64(len(b)), size-at)])
		require.NoError(t, err)
		if !fingerprint.IsZero(b[:n]) {
			_, err := out.WriteAt(b[:n], at)
			require.NoError(t, err)
		}
		at += int64(n)
	}
}

// known tells whether the format is read.
func known(format string) bool {
	_, err := disk.Lookup(format)
	return err == nil
}

func (v vectors) open(t *testing.T, file string) (disk.Reader, error) {
	_, err := os.Stat(filepath.Join(v.dir, file))
	require.NoError(t, err)
	folder, err := local.Open(filepath.Join(v.dir, filepath.Dir(file)))
	require.NoError(t, err)
	t.Cleanup(func() { _ = folder.Close() })
	return disk.Open(t.Context(), folder, filepath.Base(file), "")
}

func TestVectorsHaveTheirContent(t *testing.T) {
	v := loadVectors(t)
	tested := 0
	for _, image := range v.Images {
		if !known(image.Format) || image.ID == "chain3-qcow2-vmdk-vmdk" && !known("vmdk") {
			continue
		}
		tested++
		t.Run(image.ID, func(t *testing.T) {
			r, err := v.open(t, image.File)
			require.NoError(t, err)
			defer r.Close()
			require.Equal(t, image.VirtualSize, r.Size())
			if c, ok := r.(disk.Checker); ok {
				require.NoError(t, c.Check(t.Context()))
			}
			var meter transfer.Meter
			result, err := transfer.Transfer{Source: r, Meter: &meter}.Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, image.SparseSHA256, sparseSum(t, r))
			require.Len(t, r.Describe().Snapshots, len(image.Snapshots))
			for _, s := range image.Snapshots {
				folder, err := local.Open(filepath.Join(v.dir, filepath.Dir(image.File)))
				require.NoError(t, err)
				defer folder.Close()
				then, err := disk.Origin{Folder: folder, Name: filepath.Base(image.File), Snapshot: s.Name}.Open(t.Context(), "")
				require.NoError(t, err)
				defer then.Close()
				assert.Equal(t, s.SparseSHA256, sparseSum(t, then), s.Name)
				require.NoError(t, then.(disk.Checker).Check(t.Context()))
			}
			if image.SHA256 == nil {
				return
			}
			// The same bytes give the content's stated digest and the fingerprint's leaves.
			leaves := fingerprint.NewLeaves(r.Size())
			sum := sha256.New()
			p := make([]byte, fingerprint.LeafSize)
			for at := int64(0); at < r.Size(); at += int64(len(p)) {
				n, err := r.ReadAt(p, at)
				if !errors.Is(err, io.EOF) {
					require.NoError(t, err)
				}
				sum.Write(p[:n])
				leaves.Append(fingerprint.Leaf(p[:n]))
			}
			assert.Equal(t, *image.SHA256, hex.EncodeToString(sum.Sum(nil)))
			assert.Empty(t, fingerprint.Difference(leaves, result.Leaves, 1))
		})
	}
	require.GreaterOrEqual(t, tested, 20)
}

// TestVectorsAreDescribed: what hypervisors keep beside the content is told.
func TestVectorsAreDescribed(t *testing.T) {
	v := loadVectors(t)
	for file, says := range map[string]string{
		"qcow2-bitmaps/disk.qcow2":           "2 bitmaps of changed blocks are kept in the image (",
		"qcow2-dirty/disk.qcow2":             "was not closed properly",
		"vhdx-log-dirty/disk.vhdx":           "has a log, which is taken into account",
		"hand-vdi-zeroblocks/disk.vdi":       "creator ",
		"qcow2-zlib/disk.qcow2":              "layout compressed",
		"qcow2-prealloc-metadata/disk.qcow2": "layout thick",
		"vmdk-2gbsparse-3ext/disk.vmdk":      "layout split-sparse",
		"vhd-dynamic-chs/disk.vhd":           "sector 512",
	} {
		r, err := v.open(t, "images/"+file)
		require.NoError(t, err, file)
		d := r.Describe()
		text := fmt.Sprintln(d.Warnings, "layout", d.Layout, "sector", d.SectorSize)
		if d.Creator != "" {
			text += "creator " + d.Creator
		}
		assert.Contains(t, text, says, file)
		assert.NotContains(t, text, "damaged", file)
		require.NoError(t, r.Close())
	}
}

// sparseSum is SHA-256 over the offset and content of every chunk of 64 KiB that is not all zeros, and the size.
func sparseSum(t *testing.T, r disk.Reader) string {
	const chunk = 64 << 10
	sum := sha256.New()
	p := make([]byte, chunk)
	last := int64(-chunk)
	require.NoError(t, disk.Extents(t.Context(), r, func(e disk.Extent) error {
		for at := max(e.Off/chunk*chunk, last+chunk); e.Kind == disk.Data && at < e.End(); at += chunk {
			n, err := r.ReadAt(p, at)
			if err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			last = at
			if !fingerprint.IsZero(p[:n]) {
				sum.Write(binary.LittleEndian.AppendUint64(nil, uint64(at)))
				sum.Write(p[:n])
			}
		}
		return nil
	}))
	sum.Write(binary.LittleEndian.AppendUint64(nil, uint64(r.Size())))
	return hex.EncodeToString(sum.Sum(nil))
}

// TestMalformedIsRefused: damaged and hostile images end in a clear error by the stage where it is due, soon, and
// without much memory.
func TestMalformedIsRefused(t *testing.T) {
	v := loadVectors(t)
	tested := 0
	for _, image := range v.Malformed {
		if !known(image.Format) {
			continue
		}
		tested++
		t.Run(image.ID, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			stage, err := goThrough(ctx, t, v, image.File)
			runtime.ReadMemStats(&after)
			require.NoError(t, ctx.Err(), "it hangs")
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(256<<20))
			switch image.Expect {
			case "content":
				assert.NoError(t, err)
			case "error":
				require.Error(t, err, image.Damage)
			}
			if err != nil && image.Stage == "open" {
				assert.Equal(t, "open", stage, err)
			}
		})
	}
	require.GreaterOrEqual(t, tested, 40)
}

// goThrough opens, checks and reads an image, and tells where it failed.
func goThrough(ctx context.Context, t *testing.T, v vectors, file string) (stage string, err error) {
	r, err := v.open(t, file)
	if err != nil {
		return "open", err
	}
	defer r.Close()
	if c, ok := r.(disk.Checker); ok {
		if err := c.Check(ctx); err != nil {
			return "check", err
		}
	}
	var meter transfer.Meter
	_, err = transfer.Transfer{Source: r, Meter: &meter}.Run(ctx)
	return "read", err
}

// TestNamesClaim: content decides, but never against the name.
func TestNamesClaim(t *testing.T) {
	v := loadVectors(t)
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	qcow, err := os.ReadFile(filepath.Join(v.dir, "images/qcow2-v3-4k/disk.qcow2"))
	require.NoError(t, err)
	fixed, err := os.ReadFile(filepath.Join(v.dir, "images/vhd-fixed-force/disk.vhd"))
	require.NoError(t, err)
	both := append(append([]byte{}, qcow...), fixed[len(qcow):]...) // the guest of a fixed disk wrote marks into its first sector
	for _, c := range []struct {
		name    string
		content []byte
		format  string // that is recognised, empty when it is refused
		says    string
	}{
		{"a.qcow2", qcow, "qcow2", ""},
		{"a.img", qcow, "qcow2", ""},
		{"a", qcow, "qcow2", ""},
		{"a.raw", qcow, "", "a guest can write such marks into its own raw disk"},
		{"a.RAW", qcow, "", "--from qcow2"},
		{"a.vhd", qcow, "", "looks like qcow2"},
		{"b.qcow2", noise(1, 4096), "", "no marks of qcow2"},
		{"b.vhd", noise(1, 4096), "", "no marks of vhd"},
		{"b.vhd", nil, "", "no marks of vhd"},
		{"c.vhd", both, "vhd", ""},
		{"c.img", both, "", "marks of qcow2 and of vhd"},
		{"b.raw", noise(1, 4096), "raw", ""},
		{"b.img", noise(1, 100), "raw", ""},
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, c.name), c.content, 0o644))
		format, err := disk.Recognise(folder, c.name)
		if c.format == "" {
			require.ErrorContains(t, err, c.says, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		assert.Equal(t, c.format, format, c.name)
	}
	// A format that is named is believed: this raw disk looks like an image.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.raw"), qcow, 0o644))
	r, err := disk.Open(t.Context(), folder, "a.raw", "raw")
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, int64(len(qcow)), r.Size())
}
