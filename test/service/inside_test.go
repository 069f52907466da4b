package service

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"os/exec"
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
	assert.Equal(t, []string{"folder boot", "folder etc", "folder home", "folder lib", "folder lost+found", "folder srv"}, names)
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

// freeIn is the middle of a range on the disk that a filesystem which begins at start does not use.
func freeIn(t *testing.T, v *inspect.Volume, start int64) (free int64) {
	t.Helper()
	var last int64
	require.NoError(t, v.Used(t.Context(), func(r fingerprint.Range) error {
		if r.Offset-last > 2<<20 {
			free = start + (r.Offset+last)/2
		}
		last = r.Offset + r.Length
		return nil
	}))
	require.NotZero(t, free)
	return free
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
	free := freeIn(t, v, 34<<20)
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

// TestOnlyWhatIsUsed of filesystems travels, and no partition that is left out: remains of deleted files do not. What is not certain is read whole,
// and the receipt says which, and in what state the new image's filesystems are.
func TestOnlyWhatIsUsed(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	raw := tideBoardIn(t, dir)
	addPool(t, s.Service, "quay-store", dir)
	content, err := os.ReadFile(raw)
	require.NoError(t, err)
	remains := []byte("what was deleted, and nobody is to see")
	v, err := inspect.Part(memory{bytes.NewReader(content)}, 2)
	require.NoError(t, err)
	free := freeIn(t, v, 34<<20)
	f, err := os.OpenFile(raw, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(remains, free)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	request := func(name string, change func(*plan.Request)) plan.Request {
		r := plan.Request{
			Kind: plan.Convert, As: "raw", UsedOnly: true, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: name},
		}
		change(&r)
		return r
	}
	convert := func(name string, change func(*plan.Request)) (receipt.Receipt, []byte) {
		r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, request(name, change)).Id)
		made, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.Len(t, made, len(content))
		return r, made
	}
	r, made := convert("whole.raw", func(r *plan.Request) { r.UsedOnly = false })
	assert.True(t, bytes.Contains(made, remains))
	assert.Zero(t, r.Skipped)

	r, made = convert("used.raw", func(*plan.Request) {})
	assert.False(t, bytes.Contains(made, remains))
	require.Len(t, r.Partitions, 2)
	assert.Equal(t, receipt.FromPart, r.Source.FingerprintFrom)
	assert.Equal(t, r.Skipped, r.Partitions[0].Skipped+r.Partitions[1].Skipped)
	assert.Greater(t, r.Skipped, int64(70<<20))
	for _, p := range r.Partitions {
		assert.Equal(t, inspect.StateClean, p.State)
	}
	tides, err := fs.ReadFile(v, "srv/tides.csv")
	require.NoError(t, err)
	assert.True(t, bytes.Contains(made, tides), "all files are there")
	fsck := filepath.Join(t.TempDir(), "root")
	require.NoError(t, os.WriteFile(fsck, made[34<<20:95<<20], 0o600))
	out, err := exec.Command("e2fsck", "-fn", fsck).CombinedOutput()
	require.NoError(t, err, "%s", out)

	r, made = convert("without.raw", func(r *plan.Request) { r.Without = []string{"boot"} })
	assert.True(t, r.Partitions[0].Left)
	assert.True(t, bytes.Equal(make([]byte, 33<<20), made[1<<20:34<<20]))
	assert.True(t, bytes.Equal(content[:1<<20], made[:1<<20]), "the table is kept")
	assert.True(t, bytes.Equal(content[len(content)-33*512:], made[len(content)-33*512:]), "and its second copy")

	for want, change := range map[string]func(*plan.Request){
		"no such partition: 7":     func(r *plan.Request) { r.Without = []string{"7"} },
		"stays where it is":        func(r *plan.Request) { r.Without, r.Release = []string{"1"}, true },
		"proves nothing of a part": func(r *plan.Request) { r.Tag = "x.bagtag" },
	} {
		_, err := s.Plan(t.Context(), request("wrong.raw", change))
		require.ErrorContains(t, err, want)
	}

	f, err = os.OpenFile(raw, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{content[34<<20+1024+0x60] | 4}, 34<<20+1024+0x60) // its journal was not played back
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r, made = convert("open.raw", func(*plan.Request) {})
	assert.True(t, bytes.Contains(made, remains), "a map that is not to be relied on is not")
	assert.Contains(t, r.Partitions[1].Whole, "it was not unmounted")
	assert.Contains(t, r.Partitions[1].State, "it was not unmounted")
}

// TestWhatADiskStartsFrom is told by the service, the client and on the spot.
func TestWhatADiskStartsFrom(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	tideBoardIn(t, dir)
	addPool(t, s.Service, "quay-store", dir)
	found, err := s.Starts(t.Context(), plan.Place{Pool: "quay-store", Path: "tide-board.raw"})
	require.NoError(t, err)
	assert.Equal(t, []string{"EFI/BOOT/BOOTX64.EFI"}, found.Loaders)
	require.Len(t, found.Systems, 1)
	assert.Equal(t, "Harbour Linux 12", found.Systems[0].Name)
	assert.Equal(t, []string{"LABEL=tide-board"}, found.Systems[0].Root)
	assert.Equal(t, []string{"virtio", "scsi", "sata", "ide"}, found.Systems[0].Kernels[0].Buses)
	for _, disk := range []string{"quay-store:tide-board.raw", "./tide-board.raw"} {
		run := testkit.Run(t, dir, s.State, "look", disk, "--starts")
		require.Zero(t, run.Code, run.Notes)
		assert.Contains(t, run.Out, "drivers for virtio, scsi, sata, ide")
	}
	_, err = s.Starts(t.Context(), plan.Place{Pool: "quay-store", Path: "none.raw"})
	require.Error(t, err)
}
