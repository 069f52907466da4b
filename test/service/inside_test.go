package service

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/demo"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tideBoardIn makes the disk of that machine in a folder, and returns its path.
func tideBoardIn(t *testing.T, dir string) string {
	t.Helper()
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	path, err := demo.MakeDisk(t.Context(), dir, "tide-board")
	require.NoError(t, err)
	return path
}

// TestFilesInsideOfDisks: they are listed and taken out, of an image of any format, by the service, the client, and on the spot.
func TestFilesInsideOfDisks(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	raw := tideBoardIn(t, dir)
	addPool(t, s.Service, "quay-store", dir)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "vmdk", Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "tide-board.vmdk"},
	}).Id)
	image := plan.Place{Pool: "quay-store", Path: "tide-board.vmdk"}
	report, err := s.Look(t.Context(), image)
	require.NoError(t, err)
	root := report.Inside.Partitions[1].Filesystem
	assert.Positive(t, root.Used)
	assert.Greater(t, root.Size, root.Used)
	all, err := s.Inside(t.Context(), image, inspect.Spot{Partition: 2, Path: "."})
	require.NoError(t, err)
	var names []string
	for _, f := range all {
		names = append(names, f.Kind+" "+f.Name)
	}
	assert.Equal(t, []string{"folder etc", "folder home", "folder lost+found", "folder srv"}, names)
	body, size, _, err := s.Take(t.Context(), image, inspect.Spot{Partition: 2, Path: "srv/tides.csv"})
	require.NoError(t, err)
	content, err := io.ReadAll(body)
	require.NoError(t, err)
	require.NoError(t, body.Close())
	assert.Len(t, content, int(size))
	disk, err := os.ReadFile(raw)
	require.NoError(t, err)
	assert.True(t, bytes.Contains(disk, content))

	out := t.TempDir()
	for _, from := range []string{"quay-store:tide-board.vmdk", raw} {
		r := testkit.Run(t, out, s.State, "take", from, "2:/etc/hostname", "-")
		require.Zero(t, r.Code, r.Notes)
		assert.Equal(t, "tide-board\n", r.Out)
		r = testkit.Run(t, out, s.State, "take", from, "1:/efi/boot/bootx64.efi", ".")
		require.Zero(t, r.Code, r.Notes)
		got, err := os.ReadFile(filepath.Join(out, "bootx64.efi"))
		require.NoError(t, err)
		assert.Equal(t, "the loader of tide-board\n", string(got))
		r = testkit.Run(t, out, s.State, "take", from, "1:/efi/boot/bootx64.efi", ".")
		assert.NotZero(t, r.Code)
		assert.Contains(t, r.Notes, "nothing is overwritten")
		require.NoError(t, os.Remove(filepath.Join(out, "bootx64.efi")))
		for at, want := range map[string]string{
			"2:/no/such": "does not exist", "3:/x": "no partition 3", "0:/x": "has partitions", "2:/srv": "it is a folder", "srv": "is written PARTITION:PATH",
			"2:../x": "is no path",
		} {
			r := testkit.Run(t, out, s.State, "take", from, at, "there")
			assert.NotZero(t, r.Code)
			assert.Contains(t, r.Notes, want)
		}
		r = testkit.Run(t, out, s.State, "look", from, "--inside", "2:/srv")
		require.Zero(t, r.Code, r.Notes)
		assert.Contains(t, r.Out, "tides.csv")
	}
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// memory is a disk in memory.
type memory struct{ *bytes.Reader }

// TestDamageHasAName: where a disk is not what its tag says, the partition and the files are told, and what is free space.
func TestDamageHasAName(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	raw := tideBoardIn(t, dir)
	addPool(t, s.Service, "quay-store", dir)
	to := plan.Place{Pool: "quay-store", Path: "copy.raw"}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Destination: &to,
	}).Id)
	content, err := os.ReadFile(raw)
	require.NoError(t, err)
	v, err := inspect.Part(memory{bytes.NewReader(content)}, 2)
	require.NoError(t, err)
	free, last := int64(0), int64(0)
	require.NoError(t, v.Used(t.Context(), func(r fingerprint.Range) error {
		if r.Offset-last > 2<<20 {
			free = 34<<20 + (r.Offset+last)/2
		}
		last = r.Offset + r.Length
		return nil
	}))
	require.NotZero(t, free)
	hits := map[string]int64{
		`srv/tides.csv on partition 2 (tide-board), ext4 "tide-board"`: int64(
			bytes.Index(content, []byte("00030000,")),
		),
		`free space on partition 2 (tide-board), ext4 "tide-board"`: free,
		`one or more of start.cfg, EFI, EFI/BOOT and 1 more on partition 1 (boot), fat32 "BOOT"`: int64(
			bytes.Index(content, []byte("title tide-board")),
		),
		`outside of all partitions`: 600,
	}
	f, err := os.OpenFile(filepath.Join(dir, "copy.raw"), os.O_RDWR, 0)
	require.NoError(t, err)
	for _, at := range hits {
		_, err := f.WriteAt([]byte{^content[at]}, at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	j := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, plan.Request{Kind: plan.Prove, Source: to, Tag: plan.TagBeside}).Id)
	r, err := s.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	require.Equal(t, receipt.Failed, r.Outcome)
	said := map[string]inspect.Hit{}
	for _, h := range r.Damage {
		said[h.What] = h
	}
	for what, at := range hits {
		require.Contains(t, said, what)
		h := said[what]
		assert.LessOrEqual(t, h.Offset, at)
		assert.Greater(t, h.Offset+h.Length, at)
	}
	assert.Equal(t, []string{"srv/tides.csv"}, said[`srv/tides.csv on partition 2 (tide-board), ext4 "tide-board"`].Files)
	shown := testkit.Run(t, dir, s.State, "job", "receipt", j.Id)
	assert.Contains(t, shown.Out, `: srv/tides.csv on partition 2 (tide-board), ext4 "tide-board"`)
}
