package inspect

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made makes a file of that size with the operating system's own tools, each given as a line with $F for the file.
func made(t *testing.T, size int64, input string, lines ...string) *os.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.raw")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, size))
	for _, line := range lines {
		args := strings.Fields(strings.ReplaceAll(line, "$F", path))
		if _, err := exec.LookPath(args[0]); err != nil {
			t.Skipf("%s is not installed", args[0])
		}
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Stdin = strings.NewReader(input)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
	}
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

type fileDisk struct{ *os.File }

func (f fileDisk) Size() int64 {
	info, err := f.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

func TestFilesystems(t *testing.T) {
	for _, c := range []struct {
		line string
		size int64
		want Filesystem
	}{
		{"mkfs.ext4 -q -L quay -U 6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01 $F", 16 << 20, Filesystem{Kind: "ext4", Label: "quay", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
		{"mkfs.ext3 -q -L quay -U 6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01 $F", 16 << 20, Filesystem{Kind: "ext3", Label: "quay", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
		{"mkfs.ext2 -q $F -U 6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01", 16 << 20, Filesystem{Kind: "ext2", Label: "", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
		{"mkfs.vfat -F 32 -n QUAY -i cafe1234 $F", 64 << 20, Filesystem{Kind: "fat32", Label: "QUAY", ID: "CAFE-1234"}},
		{"mkfs.vfat -F 16 -n QUAY -i cafe1234 $F", 16 << 20, Filesystem{Kind: "fat16", Label: "QUAY", ID: "CAFE-1234"}},
		{"mkswap -q -L quay -U 6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01 $F", 16 << 20, Filesystem{Kind: "swap", Label: "quay", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
		{"mkfs.xfs -q -L quay -m uuid=6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01 $F", 320 << 20, Filesystem{Kind: "xfs", Label: "quay", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
		{"mkfs.btrfs -q -L quay -U 6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01 $F", 128 << 20, Filesystem{Kind: "btrfs", Label: "quay", ID: "6b1f0c52-3b4d-4a53-9f53-1c8f6a0b8a01"}},
	} {
		t.Run(c.want.Kind, func(t *testing.T) {
			got, err := Inside(fileDisk{made(t, c.size, "", c.line)})
			require.NoError(t, err)
			assert.Empty(t, got.Table)
			require.NotNil(t, got.Filesystem)
			assert.Equal(t, c.want, *got.Filesystem)
		})
	}
}

func TestGPT(t *testing.T) {
	f := made(
		t,
		64<<20,
		"label: gpt\nstart=1MiB, size=8MiB, type=U, name=boot\nstart=9MiB, size=20MiB, type=L, name=\"crew roster\"\n",
		"sfdisk --quiet $F",
	)
	got, err := Inside(fileDisk{f})
	require.NoError(t, err)
	assert.Equal(t, "gpt", got.Table)
	assert.Equal(t, []Partition{
		{Number: 1, Offset: 1 << 20, Length: 8 << 20, Type: "EFI system", Name: "boot"},
		{Number: 2, Offset: 9 << 20, Length: 20 << 20, Type: "Linux", Name: "crew roster"},
	}, got.Partitions)
	assert.Empty(t, got.Warnings)

	// The disk is cut: the second copy of the table and the end of a partition are gone.
	require.NoError(t, os.Truncate(f.Name(), 16<<20))
	got, err = Inside(fileDisk{f})
	require.NoError(t, err)
	assert.Len(t, got.Warnings, 2)
	assert.Contains(t, strings.Join(got.Warnings, "\n"), "partition 2 ends at 30408704, behind the end of the disk")
}

func TestMBRWithLogicalPartitions(t *testing.T) {
	table := "label: dos\nstart=1MiB, size=8MiB, type=83\nstart=9MiB, size=30MiB, type=5\nstart=10MiB, size=5MiB, type=82\nstart=17MiB, size=4MiB, type=c\n"
	got, err := Inside(fileDisk{made(t, 64<<20, table, "sfdisk --quiet $F")})
	require.NoError(t, err)
	assert.Equal(t, "mbr", got.Table)
	var types []string
	for _, p := range got.Partitions {
		types = append(types, p.Type)
	}
	assert.Equal(t, []string{"Linux", "extended", "Linux swap", "FAT32"}, types)
	assert.Equal(t, int64(10<<20), got.Partitions[2].Offset)
	assert.Equal(t, 5, got.Partitions[2].Number)
}

// memory is a disk in memory.
type memory struct{ *bytes.Reader }

func (m memory) Size() int64 { return m.Reader.Size() }

func TestNothingKnown(t *testing.T) {
	for _, b := range [][]byte{nil, {1}, make([]byte, 512), bytes.Repeat([]byte{0xa5}, 70_000)} {
		got, err := Inside(memory{bytes.NewReader(b)})
		require.NoError(t, err)
		assert.Empty(t, got.Table)
		assert.Nil(t, got.Filesystem)
	}
}

func FuzzInside(f *testing.F) {
	sector := make([]byte, 2048)
	copy(sector[512:], "EFI PART\x00\x00\x01\x00\x5c\x00\x00\x00")
	f.Add(sector)
	mbr := make([]byte, 2048)
	mbr[446+4], mbr[446+8], mbr[446+12], mbr[510], mbr[511] = 5, 1, 1, 0x55, 0xaa
	f.Add(mbr)
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := Inside(memory{bytes.NewReader(b)})
		if err != nil {
			t.Fatal("content is never an error: ", err)
		}
		for _, p := range c.Partitions {
			if p.Offset < 0 || p.Length < 0 {
				t.Errorf("impossible partition %+v", p)
			}
		}
	})
}

// TestReport: programs rely on the names and on lists that are lists.
func TestReport(t *testing.T) {
	f := made(t, 64<<20, "label: gpt\nstart=1MiB, size=8MiB\n", "sfdisk --quiet $F")
	folder, err := local.Open(filepath.Dir(f.Name()))
	require.NoError(t, err)
	defer folder.Close()
	r, err := File(t.Context(), disk.Origin{Folder: folder, Name: "disk.raw"}, "")
	require.NoError(t, err)
	b, err := json.Marshal(r)
	require.NoError(t, err)
	var out map[string]any
	require.NoError(t, json.Unmarshal(b, &out))
	assert.Equal(t, "raw", out["format"])
	assert.Equal(t, "thin", out["layout"])
	assert.EqualValues(t, 64<<20, out["virtual_size"])
	assert.EqualValues(t, 64<<20, out["file_size"])
	assert.Less(t, out["allocated_size"], float64(1<<20))
	assert.Less(t, out["room"], float64(1<<20))
	assert.Equal(t, []any{"disk.raw"}, out["files"])
	assert.Equal(t, []any{}, out["warnings"])
	assert.Equal(t, []any{}, out["snapshots"])
	assert.Empty(t, out["base"])
	assert.NotEmpty(t, out["extents"])
}

// TestRandomDataIsNoTable although it ends with the two bytes of one.
func TestRandomDataIsNoTable(t *testing.T) {
	sector := make([]byte, 512)
	entry := func(i int, status, kind byte, first, count uint32) {
		e := sector[446+16*i:]
		e[0], e[4] = status, kind
		binary.LittleEndian.PutUint32(e[8:], first)
		binary.LittleEndian.PutUint32(e[12:], count)
	}
	look := func() string {
		sector[510], sector[511] = 0x55, 0xaa
		c, err := Inside(memory{bytes.NewReader(append(bytes.Clone(sector), make([]byte, 4<<20)...))})
		require.NoError(t, err)
		return c.Table
	}
	entry(0, 0x80, 0x83, 2048, 2048)
	entry(1, 0, 0x82, 4096, 2048)
	assert.Equal(t, "mbr", look())
	entry(1, 0, 0x82, 4000, 2048)
	assert.Empty(t, look(), "they overlap")
	entry(1, 0x17, 0x82, 4096, 2048)
	assert.Empty(t, look(), "neither active nor not")
	entry(1, 0, 0x82, 0, 2048)
	assert.Empty(t, look(), "it begins where the table lies")
	for seed := range byte(50) {
		_, _ = rand.NewChaCha8([32]byte{seed}).Read(sector)
		assert.Empty(t, look())
	}
}

// TestAGrownDiskIsNoCutOne: only what is missing is doubted.
func TestAGrownDiskIsNoCutOne(t *testing.T) {
	f := made(t, 64<<20, "label: gpt\nstart=1MiB, size=8MiB\n", "sfdisk --quiet $F")
	for size, doubts := range map[int64]int{64 << 20: 0, 80 << 20: 0, 40 << 20: 1, 4 << 20: 2} {
		require.NoError(t, os.Truncate(f.Name(), size))
		got, err := Inside(fileDisk{f})
		require.NoError(t, err)
		assert.Len(t, got.Doubts, doubts, "%d bytes", size)
	}
}
