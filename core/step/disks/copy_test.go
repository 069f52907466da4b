package disks

import (
	"context"
	"crypto/sha256"
	"errors"
	"os"
	"path"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apart is a folder that is on no storage that others are on.
type apart struct{ storage.Folder }

func (a apart) Space() (storage.Space, error) {
	s, err := a.Folder.Space()
	s.ID = "apart"
	return s, err
}

func (a apart) Fresh() storage.Folder { return apart{storage.Fresh(a.Folder)} }

// made converts the world's disk to a layout in a pool of its own, and returns that.
func (w *world) made(f disk.Format, l disk.Layout, name string) string {
	w.t.Helper()
	dir := w.t.TempDir()
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: "gate-kiosk.raw"},
		Destination: &plan.Place{Path: name},
		As:          f.Name,
		Layout:      l.Name,
	}
	if l.PieceSize(disk.Options{}) > 0 {
		r.Options.PieceSize = 5 << 20
	}
	ends := step.Ends{Source: w.folder(w.from), Destination: w.folder(dir)}
	if l.Stands {
		base := r
		base.Layout, base.Destination = "", &plan.Place{Path: "base" + f.Extensions[0]}
		p, err := Prepare(w.t.Context(), ends, base, step.Known{})
		require.NoError(w.t, err)
		_, err = solo{ID: "base", Ends: ends, Plan: p}.Run(w.t.Context())
		require.NoError(w.t, err)
		r.Base = "base" + f.Extensions[0]
	}
	p, err := Prepare(w.t.Context(), ends, r, step.Known{})
	require.NoError(w.t, err)
	require.False(w.t, p.Blocked(), "%+v", p.Checks)
	_, err = solo{ID: "make", Ends: ends, Plan: p}.Run(w.t.Context())
	require.NoError(w.t, err)
	return dir
}

// TestCopiesAndMoves: every layout, under a new name, to other storage and on the same: the disk is the same, and so are its files.
func TestCopiesAndMoves(t *testing.T) {
	t.Parallel()
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			if testing.Short() && l.Name != f.Layouts[0].Name && l.Name != "split-sparse" { // with the race detector
				continue
			}
			ways := []string{"copied", "moved", "renamed"}
			if l.Name != f.Layouts[0].Name && !l.Stands && len(l.FileNames("a", diskSize, disk.Options{PieceSize: 5 << 20})) == 1 {
				ways = ways[:1] // its file is like that of the first layout
			}
			if l.Name != f.Layouts[0].Name {
				ways = fewer.Of(t, 1, ways)
			}
			for _, how := range ways {
				t.Run(f.Name+"-"+l.Name+"-"+how, func(t *testing.T) {
					w := newWorld(t)
					dir := w.made(f, l, "ticketing"+f.Extensions[0])
					w.ends.Source = w.folder(dir)
					if how != "renamed" {
						w.ends.Destination = apart{w.ends.Destination}
					}
					name := plan.Opens(l, "ticketing"+f.Extensions[0], diskSize, disk.Options{PieceSize: 5 << 20})
					before, err := os.ReadDir(dir)
					require.NoError(t, err)
					p := w.plan(
						plan.Request{
							Kind:        plan.Copy,
							Source:      plan.Place{Path: name},
							Destination: &plan.Place{Path: "deck/tide-board" + f.Extensions[0]},
							Release:     how != "copied",
						},
					)
					require.False(t, p.Blocked(), "%+v", p.Checks)
					assert.Equal(t, how == "renamed", p.Bodies[0].Renames)
					r, err := w.run(t.Context(), p, nil)
					require.NoError(t, err)
					assert.Equal(t, receipt.Proven, r.Outcome)
					assert.Equal(t, r.Source.Fingerprint, r.Destination.Fingerprint)
					got, err := disk.Open(t.Context(), w.folder(w.to), r.Destination.Place.Path, f.Name)
					require.NoError(t, err)
					content := make([]byte, diskSize)
					_, err = got.ReadAt(content, 0)
					require.NoError(t, err)
					assert.Equal(t, w.source, content)
					assert.Len(t, got.Describe().Files, len(p.Bodies[0].Own))
					require.NoError(t, got.Close())

					after, err := os.ReadDir(filepath.Join(w.to, "deck"))
					require.NoError(t, err)
					assert.Len(t, after, len(before), "the image, what it stands on, and the tag")
					proof, err := Prepare(
						t.Context(),
						step.Ends{Source: w.folder(w.to)},
						plan.Request{Kind: plan.Prove, Source: plan.Place{Path: r.Destination.Place.Path}, Tag: plan.TagBeside},
						step.Known{},
					)
					require.NoError(t, err)
					proven, err := solo{ID: "prove", Ends: step.Ends{Source: w.folder(w.to)}, Plan: proof}.Run(t.Context())
					require.NoError(t, err)
					assert.Equal(t, receipt.Proven, proven.Outcome, "by its tag")
					_, err = os.Stat(filepath.Join(dir, name))
					assert.Equal(t, how == "copied", err == nil)
					if how != "moved" {
						return
					}
					held, err := ListHeld(w.ends.Source)
					require.NoError(t, err)
					require.Len(t, held, 1)
					_, err = Restore(w.ends.Source, held[0].ID, false, HoldFor)
					require.NoError(t, err)
					now, err := os.ReadDir(dir)
					require.NoError(t, err)
					assert.Len(t, now, len(before), "all of the source is back")
				})
			}
		}
	}
}

// TestFilesAreTheSame, byte for byte, but for the names in a descriptor.
func TestFilesAreTheSame(t *testing.T) {
	w := newWorld(t)
	for _, as := range []struct{ format, layout string }{{"qcow2", "compressed"}, {"vmdk", "split-sparse"}, {"raw", "pieces"}, {"vhdx", "dynamic"}} {
		f, err := disk.Lookup(as.format)
		require.NoError(t, err)
		l, err := f.Layout(as.layout)
		require.NoError(t, err)
		w.ends.Source = w.folder(w.made(f, l, "a"+f.Extensions[0]))
		r := plan.Request{Kind: plan.Copy, Source: plan.Place{Path: "a" + f.Extensions[0]}, Destination: &plan.Place{Path: "b" + f.Extensions[0]}}
		if as.layout == "pieces" {
			r.Source.Path += ".001"
		}
		p := w.plan(r)
		_, err = w.run(t.Context(), p, nil)
		require.NoError(t, err)
		for _, c := range p.Bodies[0].Copied {
			a, errA := storage.SHA256(t.Context(), w.ends.Source, c.From, nil)
			b, errB := storage.SHA256(t.Context(), w.ends.Destination, c.To, nil)
			require.NoError(t, errors.Join(errA, errB))
			assert.Equal(t, as.layout != "split-sparse" || path.Base(c.To) != "b.vmdk", a == b, c.To)
		}
	}
}

// TestChains: a chain keeps its places, whole or alone, and nothing is moved away from under a disk that stands on it.
func TestChains(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	dir := w.t.TempDir()
	made := w.made(f, f.Layouts[3], "ticketing.qcow2")
	require.Equal(t, "overlay", f.Layouts[3].Name)
	// The base lies in a folder of its own, and two disks stand on it.
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "harbour"), 0o700))
	for from, to := range map[string]string{"base.qcow2": "base.qcow2", "ticketing.qcow2": "ticketing.qcow2"} {
		b, err := os.ReadFile(filepath.Join(made, from))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "harbour", to), b, 0o600))
	}
	w.ends.Source = w.folder(dir)
	w.ends.Destination = apart{w.ends.Destination}
	copyTo := func(from, to string) plan.Request {
		return plan.Request{Kind: plan.Copy, Source: plan.Place{Path: from}, Destination: &plan.Place{Path: to}}
	}
	whole := copyTo("harbour/ticketing.qcow2", "pier/tickets.qcow2")
	r, err := w.run(t.Context(), w.plan(whole), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.FileExists(t, filepath.Join(w.to, "pier/base.qcow2"))

	alone := copyTo("harbour/ticketing.qcow2", "pier/more.qcow2")
	alone.Chain = plan.ChainAlone
	r, err = w.run(t.Context(), w.plan(alone), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	alone.Destination = &plan.Place{Path: "mole/more.qcow2"}
	p := w.plan(alone)
	require.True(t, p.Blocked(), "the base is not there")

	base := copyTo("harbour/base.qcow2", "pier/other.qcow2")
	base.Release = true
	p = w.plan(base)
	require.True(t, p.Blocked())
	last := p.Checks[len(p.Checks)-1]
	assert.Contains(t, last.Message, "harbour/ticketing.qcow2 stand(s) on the source")
	base.Release = false
	assert.False(t, w.plan(base).Blocked())
	again := w.plan(whole)
	require.True(t, again.Blocked(), "what lies there is not replaced unasked")
}

// TestMovesGoOn after they were interrupted anywhere: no file is lost or left in two places.
func TestMovesGoOn(t *testing.T) {
	t.Parallel()
	f, err := disk.Lookup("raw")
	require.NoError(t, err)
	l, err := f.Layout("pieces")
	require.NoError(t, err)
	for _, same := range []bool{true, false} {
		for n := 1; ; n++ {
			w := newWorld(t)
			dir := w.made(f, l, "ticketing.raw")
			stop := &stopping{after: n}
			w.ends.Source = stop.in(w.folder(dir), true)
			w.ends.Destination = stop.in(w.ends.Destination, same)
			p := w.plan(
				plan.Request{
					Kind:        plan.Copy,
					Source:      plan.Place{Path: "ticketing.raw.001"},
					Destination: &plan.Place{Path: "deck/tide-board.raw"},
					Release:     true,
				},
			)
			require.Equal(t, same, p.Bodies[0].Renames)
			w.records = &notebook{}
			_, err := w.run(t.Context(), p, nil)
			if !stop.stopped {
				require.NoError(t, err)
				require.Greater(t, n, 4)
				break
			}
			w.ends.Source, w.ends.Destination = w.folder(dir), w.folder(w.to)
			if !same {
				w.ends.Destination = apart{w.ends.Destination}
			}
			r, err := w.run(t.Context(), p, nil)
			if same && err != nil { // it was undone, and may be planned again
				r, err = w.run(t.Context(), w.plan(p.Request), nil)
			}
			require.NoError(t, err, "same storage %v, operation %d", same, n)
			assert.Equal(t, receipt.Proven, r.Outcome)
			got, err := disk.Open(t.Context(), w.folder(w.to), "deck/tide-board.raw.001", "raw")
			require.NoError(t, err)
			content := make([]byte, diskSize)
			_, err = got.ReadAt(content, 0)
			require.NoError(t, err)
			require.Equal(t, w.source, content)
			require.NoError(t, got.Close())
			assert.NoFileExists(t, filepath.Join(dir, "ticketing.raw.001"))
		}
	}
}

// TestMovesAreCalledOff after they were interrupted anywhere: everything has its old name again.
func TestMovesAreCalledOff(t *testing.T) {
	t.Parallel()
	f, err := disk.Lookup("raw")
	require.NoError(t, err)
	l, err := f.Layout("pieces")
	require.NoError(t, err)
	split := 0 // interruptions that left files in two places
	for n := 1; ; n++ {
		w := newWorld(t)
		dir := w.made(f, l, "ticketing.raw")
		stop := &stopping{after: n}
		w.ends.Source, w.ends.Destination = stop.in(w.folder(dir), true), stop.in(w.ends.Destination, true)
		p := w.plan(
			plan.Request{
				Kind:        plan.Copy,
				Source:      plan.Place{Path: "ticketing.raw.001"},
				Destination: &plan.Place{Path: "deck/tide-board.raw"},
				Release:     true,
			},
		)
		w.records = &notebook{}
		_, err := w.run(t.Context(), p, nil)
		if !stop.stopped {
			require.NoError(t, err)
			break
		}
		w.ends.Source, w.ends.Destination = w.folder(dir), w.folder(w.to)
		there, err := filepath.Glob(filepath.Join(w.to, "deck/tide-board.raw.*"))
		require.NoError(t, err)
		here, err := filepath.Glob(filepath.Join(dir, "ticketing.raw.*"))
		require.NoError(t, err)
		if len(there) > 0 && len(here) > 0 {
			split++
		}
		_, err = solo{ID: "move", Ends: w.ends, Plan: p, Records: w.records}.task().CallOff(t.Context())
		require.NoError(t, err, "operation %d", n)
		got, err := disk.Open(t.Context(), w.folder(dir), "ticketing.raw.001", "raw")
		require.NoError(t, err, "operation %d", n)
		content := make([]byte, diskSize)
		_, err = got.ReadAt(content, 0)
		require.NoError(t, err)
		require.Equal(t, w.source, content)
		require.NoError(t, got.Close())
		there, err = filepath.Glob(filepath.Join(w.to, "deck/*"))
		require.NoError(t, err)
		require.Empty(t, there, "operation %d", n)
	}
	require.NotZero(t, split)
}

// atPlace are records that cannot be kept for once when files are to get their names.
type atPlace struct {
	notebook
	failed bool
}

func (n *atPlace) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	if begun := j.Subjects[plan.FirstDisk].Begun; (begun == "disk1.publish" || begun == "disk1.rename") && !n.failed {
		n.failed = true
		return storage.ErrLost
	}
	return n.notebook.Keep(ctx, j, mark)
}

// summing is a folder whose host takes checksums itself.
type summing struct{ storage.Folder }

func (s summing) Sums() bool { return true }
func (s summing) SHA256(ctx context.Context, name string) ([sha256.Size]byte, error) {
	return storage.SHA256(ctx, s.Folder, name, nil)
}

// TestChangedNamesAreNotTakenForDamage when a copy goes on that was interrupted behind its proof.
func TestChangedNamesAreNotTakenForDamage(t *testing.T) {
	w := newWorld(t)
	f, err := disk.Lookup("vmdk")
	require.NoError(t, err)
	l, err := f.Layout("split-sparse")
	require.NoError(t, err)
	w.ends.Source = w.folder(w.made(f, l, "a.vmdk"))
	w.ends.Destination = summing{w.ends.Destination}
	p := w.plan(plan.Request{Kind: plan.Copy, Source: plan.Place{Path: "a.vmdk"}, Destination: &plan.Place{Path: "b.vmdk"}})
	require.True(t, p.Bodies[0].Sums)
	w.records = &atPlace{}
	_, err = w.run(t.Context(), p, nil)
	require.ErrorIs(t, err, storage.ErrLost)
	r, err := w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Equal(t, 1, r.Resumed)
}

// stopping fails every operation that changes names once there were so many, as if the storage had gone away.
type stopping struct {
	after   int
	stopped bool
}

func (s *stopping) in(f storage.Folder, same bool) storage.Folder {
	if !same {
		f = apart{f}
	}
	return stoppingFolder{f, s}
}

type stoppingFolder struct {
	storage.Folder
	s *stopping
}

func (f stoppingFolder) count() error {
	if f.s.after--; f.s.after < 0 {
		f.s.stopped = true
		return storage.ErrLost // nothing is cleared up then
	}
	return nil
}

func (f stoppingFolder) Rename(a, b string) error {
	if err := f.count(); err != nil {
		return err
	}
	return f.Folder.Rename(a, b)
}

func (f stoppingFolder) Moves(from storage.Folder, a, b string) bool {
	m, ok := f.Folder.(storage.Mover)
	if x, stops := from.(stoppingFolder); stops {
		from = x.Folder
	}
	return ok && m.Moves(from, a, b)
}

func (f stoppingFolder) MoveIn(from storage.Folder, a, b string) error {
	m, ok := f.Folder.(storage.Mover)
	if !ok {
		return errors.ErrUnsupported
	}
	if err := f.count(); err != nil {
		return err
	}
	if x, ok := from.(stoppingFolder); ok {
		from = x.Folder
	}
	return m.MoveIn(from, a, b)
}

func (f stoppingFolder) Fresh() storage.Folder { return storage.Fresh(f.Folder) }
