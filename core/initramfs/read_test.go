package initramfs

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// walked are the contents by their names, as they are in the end.
func walked(t *testing.T, b []byte) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, Walk(t.Context(), bytes.NewReader(b), func(e Entry, content io.Reader) error {
		text, err := io.ReadAll(content)
		all[e.Name] = string(text)
		return err
	}))
	return all
}

// packs are the ways in which archives are packed.
var packs = map[string]func(io.Writer) (io.WriteCloser, error){
	"gzip": func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
	"xz":   func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) },
	"zstd": func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) },
	"zstd without a checksum": func(w io.Writer) (io.WriteCloser, error) {
		return zstd.NewWriter(w, zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true))
	},
	"lz4": func(w io.Writer) (io.WriteCloser, error) {
		z := lz4.NewWriter(w)
		return z, z.Apply(lz4.LegacyOption(true))
	},
	"not at all": func(w io.Writer) (io.WriteCloser, error) { return nopCloser{w}, nil },
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// TestWhatIsPutBehind an initial memory disk is found behind it, however that is packed, and takes the place of what was there before.
func TestWhatIsPutBehind(t *testing.T) {
	early := Archive([]File{{Name: "kernel", Dir: true, Mode: 0o755}, {Name: "kernel/x86.bin", Content: []byte("microcode"), Mode: 0o644}})
	noise := make([]byte, 3<<20)
	for i := range noise[:2<<20] {
		noise[i] = byte(rand.Uint32())
	}
	main := Archive([]File{
		{
			Name: "conf",
			Dir:  true,
			Mode: 0o755,
		},
		{Name: "conf/modules", Content: []byte("ext4\n"), Mode: 0o644},
		{Name: "noise", Content: noise, Mode: 0o644},
	})
	for how, pack := range packs {
		t.Run(how, func(t *testing.T) {
			var b bytes.Buffer
			b.Write(early)
			b.Write(make([]byte, padding(int64(b.Len()))+512))
			z, err := pack(&b)
			require.NoError(t, err)
			_, err = z.Write(main)
			require.NoError(t, err)
			require.NoError(t, z.Close())
			before := walked(t, b.Bytes())
			assert.Equal(t, "ext4\n", before["conf/modules"])
			assert.Equal(t, "microcode", before["kernel/x86.bin"])
			added := []File{
				{Name: "conf/modules", Content: []byte("ext4\nnvme\n"), Mode: 0o644},
				{Name: "lib/a/nvme.ko", Content: []byte("code"), Mode: 0o644},
			}
			added = append(Folders(added, func(name string) bool { _, there := before[name]; return there }), added...)
			whole := append(b.Bytes(), Behind(int64(b.Len()), Archive(added))...)
			after := walked(t, whole)
			assert.Equal(t, "ext4\nnvme\n", after["conf/modules"])
			assert.Equal(t, "code", after["lib/a/nvme.ko"])
			assert.Contains(t, after, "lib")
			assert.Equal(t, string(noise), after["noise"])
			assert.Len(t, after, len(before)+3)
			assert.Equal(t, after, walked(t, append(whole, make([]byte, 511)...)), "padding at the end is nothing")
		})
	}
}

// TestOthersReadWhatIsWritten: the system's own tool does.
func TestOthersReadWhatIsWritten(t *testing.T) {
	if _, err := exec.LookPath("cpio"); err != nil {
		t.Skip("cpio is missing: apt-get install cpio")
	}
	dir := t.TempDir()
	cmd := exec.CommandContext(t.Context(), "cpio", "-i", "--quiet", "--no-absolute-filenames")
	cmd.Dir = dir
	cmd.Stdin = bytes.NewReader(
		Archive([]File{{Name: "lib", Dir: true, Mode: 0o755}, {Name: "lib/nvme.ko", Content: []byte("code!"), Mode: 0o640}}),
	)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(filepath.Join(dir, "lib/nvme.ko"))
	require.NoError(t, err)
	assert.Equal(t, "code!", string(content))
	info, err := os.Stat(filepath.Join(dir, "lib/nvme.ko"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
}

// TestWhatIsPackedInItself ends: only archives are looked for inside of what is packed.
func TestWhatIsPackedInItself(t *testing.T) {
	var once, twice bytes.Buffer
	for _, x := range []struct {
		to   *bytes.Buffer
		what []byte
	}{{&once, Archive(nil)}, {&twice, nil}} {
		z := gzip.NewWriter(x.to)
		what := x.what
		if what == nil {
			what = once.Bytes()
		}
		_, err := z.Write(what)
		require.NoError(t, err)
		require.NoError(t, z.Close())
	}
	require.NoError(t, Walk(t.Context(), &once, nil))
	require.ErrorIs(t, Walk(t.Context(), &twice, nil), disk.ErrDamaged)
}

// FuzzWalk: whatever an initial memory disk has, it is read or refused, in bounds.
func FuzzWalk(f *testing.F) {
	f.Add(Archive([]File{{Name: "nvme.ko", Content: []byte("code")}}))
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Add([]byte("\x28\xb5\x2f\xfd\x00"))
	f.Add(binary.LittleEndian.AppendUint32([]byte(lz4Magic), 4))
	f.Add(append(make([]byte, 64), "070701"...))
	f.Fuzz(func(t *testing.T, b []byte) {
		err := Walk(t.Context(), bytes.NewReader(b), func(e Entry, content io.Reader) error {
			require.NotEmpty(t, e.Name)
			_, err := io.Copy(io.Discard, io.LimitReader(content, 1<<20))
			return err
		})
		if err != nil && !errors.Is(err, disk.ErrUnsupported) && !errors.Is(err, io.ErrUnexpectedEOF) {
			require.ErrorIs(t, err, disk.ErrDamaged)
		}
	})
}
