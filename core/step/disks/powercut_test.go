package disks

import (
	"context"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/faulty"
	"bagaglio/core/transfer"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// noted are records that come into the order of what happens in a folder.
type noted struct {
	notebook
	folder *faulty.Folder
}

// copied is a notebook as it is now.
func (n *noted) copied() notebook {
	out := notebook{state: n.state, marks: map[string][][]byte{}}
	for stage, marks := range n.marks {
		out.marks[stage] = marks[:len(marks):len(marks)]
	}
	return out
}

func (n *noted) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	err := n.notebook.Keep(ctx, j, mark)
	n.folder.Note(n.copied())
	return err
}

func (n *noted) Forget(ctx context.Context, subject string, j step.Journal) error {
	err := n.notebook.Forget(ctx, subject, j)
	n.folder.Note(n.copied())
	return err
}

// powerCutSize is that of the disks, in bytes: a block of every format, and a piece of 2 MiB, are less.
const powerCutSize = 3 << 20

// TestPowerCut: behind every single operation of a job, whatever of what was not synced is lost, under the final name lies nothing, or
// the whole new image, or the whole old one; and the job goes on from there to its end.
func TestPowerCut(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes minutes with the race detector")
	}
	const small = powerCutSize
	seed := uint64(0)
	for _, f := range disk.Formats() {
		for _, l := range fewer.Of(t, 1, f.Layouts) {
			for _, replace := range []bool{false, true} {
				name := f.Name + "-" + l.Name
				if replace {
					name += "-replaced"
				}
				seed++
				t.Run(name, func(t *testing.T) {
					cutPower(t, f, l, replace, faulty.New(false), small, rand.New(rand.NewPCG(seed, 1)))
				})
				if name := f.Name + "-" + l.Name; name == "raw-thin" || name == "qcow2-thin" ||
					name == "vmdk-split-sparse" { // on storage that cannot swap files, too
					t.Run(name+"-simple", func(t *testing.T) {
						cutPower(t, f, l, replace, faulty.New(true), small, rand.New(rand.NewPCG(seed, 2)))
					})
				}
			}
		}
	}
}

func cutPower(t *testing.T, f disk.Format, l disk.Layout, replace bool, pool *faulty.Folder, size int, r *rand.Rand) {
	w := newWorld(t)
	w.source = w.source[:size]
	require.NoError(t, os.Chmod(filepath.Join(w.from, "gate-kiosk.raw"), 0o600))
	require.NoError(t, os.Truncate(filepath.Join(w.from, "gate-kiosk.raw"), int64(size)))
	other := make([]byte, size)
	copy(other[size/2:], w.source)
	require.NoError(t, os.WriteFile(filepath.Join(w.from, "other.raw"), other, 0o600))
	w.ends.Destination = pool
	request := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: "other.raw"},
		Destination: &plan.Place{Path: "deck/disk" + f.Extensions[0]},
		As:          f.Name,
		Layout:      l.Name,
		Replace:     replace,
	}
	if len(l.Options) > 0 && l.PieceSize(disk.Options{}) > 0 {
		request.Options.PieceSize = 2 << 20
	}
	fingerprints := map[string]bool{}
	if l.Stands {
		base := request
		base.Layout, base.Destination, base.Replace = "", &plan.Place{Path: "deck/base" + f.Extensions[0]}, false
		_, err := solo{ID: "base", Ends: w.ends, Plan: w.plan(base)}.Run(t.Context())
		require.NoError(t, err)
		request.Base = "deck/base" + f.Extensions[0]
	}
	if replace {
		_, err := solo{ID: "old", Ends: w.ends, Plan: w.plan(request)}.Run(t.Context())
		require.NoError(t, err)
		fingerprints[contentOf(t, pool, f, l, request)] = true
	}
	request.Source.Path = "gate-kiosk.raw"
	p := w.plan(request)
	require.False(t, p.Blocked(), "%+v", p.Checks)
	begin := pool.Len()
	task := solo{ID: "test-1", Ends: w.ends, Plan: p, Records: &noted{folder: pool}, Hold: HoldFor}
	done, err := task.Run(t.Context())
	require.NoError(t, err)
	require.Equal(t, receipt.Proven, done.Outcome)
	want := contentOf(t, pool, f, l, request)
	fingerprints[want] = true
	goOn := map[int]bool{}
	for range 6 {
		goOn[begin+r.IntN(pool.Len()-begin)] = true
	}
	for n := begin; n <= pool.Len(); n++ {
		cut, records := pool.Cut(n, r)
		got := contentOf(t, cut, f, l, request)
		require.True(t, got == "" || fingerprints[got], "power cut behind operation %d of %d: under the final name lies a part", n, pool.Len())
		if !goOn[n] {
			continue
		}
		task := task
		again := &noted{folder: cut}
		if records != nil {
			again.notebook = (&noted{notebook: records.(notebook)}).copied()
		}
		task.Ends.Destination, task.Records = cut, again
		done, err := task.Run(t.Context())
		require.NoError(t, err, "going on behind operation %d of %d", n, pool.Len())
		require.Equal(t, receipt.Proven, done.Outcome)
		assert.Equal(t, want, contentOf(t, cut, f, l, request), "going on behind operation %d of %d", n, pool.Len())
	}
}

// contentOf is the fingerprint of what lies under the final name, empty when nothing does that can be opened as a disk.
func contentOf(t *testing.T, folder storage.Folder, f disk.Format, l disk.Layout, r plan.Request) string {
	t.Helper()
	name := plan.Opens(l, r.Destination.Path, powerCutSize, r.Options)
	if _, err := folder.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	src, err := disk.Open(t.Context(), folder, name, f.Name)
	if err != nil && f.Name == "hdd" { // a folder is a disk once its descriptor is there
		if _, err := folder.Stat(name + "/DiskDescriptor.xml"); errors.Is(err, fs.ErrNotExist) {
			return ""
		}
	}
	require.NoError(t, err)
	defer src.Close()
	var meter transfer.Meter
	result, err := transfer.Transfer{Source: src, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	sum, err := result.Leaves.Sum()
	require.NoError(t, err)
	return sum.String()
}

// TestPowerCutWhileAFamilyIsRenamed: behind every single operation, whatever of what was not synced is lost, the job goes on to its end,
// or is called off with every byte as it was.
func TestPowerCutWhileAFamilyIsRenamed(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("one thing after the other: nothing for the race detector")
	}
	for _, f := range []struct{ name, base, overlay, to string }{
		{"qcow2", "thin", "overlay", "root-with-a-longer-name"}, {"vmdk", "flat", "delta", "pier/root"},
		{"vhd", "dynamic", "differencing", "root-with-a-longer-name"}, {"vhdx", "dynamic", "differencing", "pier/root"},
	} {
		t.Run(f.name, func(t *testing.T) {
			v := newVoyage(t, 3)
			pool := faulty.New(false)
			v.pools["quay"] = pool
			ext := "." + f.name
			base := v.make(f.name, f.base, "base"+ext, "")
			top := v.make(f.name, f.overlay, "top"+ext, base)
			v.make(f.name, f.overlay, "deep"+ext, top)
			p := v.plan(
				plan.Request{
					Kind:        plan.Copy,
					Source:      plan.Place{Pool: "quay", Path: base},
					Destination: &plan.Place{Pool: "quay", Path: f.to + ext},
					Release:     true,
					Family:      true,
				},
			)
			require.False(t, p.Blocked(), "%+v", p.Checks)
			begin, before := pool.Len(), v.disks
			task := v.task(p, nil)
			task.Records = &noted{folder: pool}
			_, err := task.Run(t.Context())
			require.NoError(t, err)
			v.expect(p)
			after := v.disks
			v.check()
			r := rand.New(rand.NewPCG(3, 4))
			for n := begin; n <= pool.Len(); n++ {
				goOn := n%2 == 0
				cut, records := pool.Cut(n, r)
				v.pools["quay"] = cut
				again := &noted{folder: cut}
				if records != nil {
					again.notebook = (&noted{notebook: records.(notebook)}).copied()
				}
				task := v.task(p, nil)
				task.Records = again
				v.disks = after
				if goOn {
					_, err = task.Run(t.Context())
				} else {
					v.disks = before
					_, err = task.task().CallOff(t.Context())
					err = errors.Join(err, Clear(cut, v.id))
				}
				require.NoError(t, err, "behind operation %d of %d, going on: %v", n, pool.Len(), goOn)
				v.check()
			}
		})
	}
}
