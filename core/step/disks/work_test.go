package disks

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"bagaglio/core/carry"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// world is a pool to take from and a pool to write to.
type world struct {
	t        *testing.T
	from, to string
	ends     step.Ends
	source   []byte
	records  step.Records
}

const diskSize = 24 << 20

func newWorld(t *testing.T) *world {
	return newWorldIn(t, t.TempDir())
}

// kiosk is the content of the disk gate-kiosk.
var kiosk = sync.OnceValue(func() []byte {
	b := make([]byte, diskSize)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(b[1<<20 : 12<<20]) // never fails
	return b
})

func newWorldIn(t *testing.T, to string) *world {
	t.Helper()
	w := &world{t: t, from: t.TempDir(), to: to, source: bytes.Clone(kiosk())}
	require.NoError(t, os.WriteFile(filepath.Join(w.from, "gate-kiosk.raw"), w.source, 0o444))
	w.ends = step.Ends{Source: w.folder(w.from), Destination: w.folder(w.to)}
	return w
}

func (w *world) folder(dir string) storage.Folder {
	w.t.Helper()
	f, err := local.Open(dir)
	require.NoError(w.t, err)
	w.t.Cleanup(func() { _ = f.Close() })
	return f
}

func toQcow2() plan.Request {
	return plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: "gate-kiosk.raw"},
		Destination: &plan.Place{Path: "gate-kiosk.qcow2"},
		As:          "qcow2",
	}
}

func (w *world) plan(r plan.Request) plan.Plan {
	w.t.Helper()
	p, err := Prepare(w.t.Context(), w.ends, r, step.Known{})
	require.NoError(w.t, err)
	return p
}

func (w *world) run(ctx context.Context, p plan.Plan, watch func(step.Progress)) (receipt.Receipt, error) {
	return solo{ID: "test-1", Ends: w.ends, Plan: p, Watch: watch, Records: w.records, Hold: time.Hour, By: "job 1"}.Run(ctx)
}

// untouched: the source is what it was, and in the destination lies only what is named, but for tags and what is held.
func (w *world) untouched(names ...string) {
	w.t.Helper()
	b, err := os.ReadFile(filepath.Join(w.from, "gate-kiosk.raw"))
	require.NoError(w.t, err)
	assert.True(w.t, bytes.Equal(w.source, b), "the source was written to")
	entries, err := os.ReadDir(w.to)
	require.NoError(w.t, err)
	left := []string{}
	for _, e := range entries {
		if !carry.IsCompanion(e.Name()) { // which comes with an image
			left = append(left, e.Name())
		}
	}
	assert.NoDirExists(w.t, filepath.Join(w.to, StagingFolder))
	if held, err := ListHeld(w.ends.Destination); err == nil && len(held) > 0 {
		names = append(names, OwnFolder)
	}
	assert.ElementsMatch(w.t, names, left)
}

func TestConvertIsProven(t *testing.T) {
	w := newWorld(t)
	var steps []string
	r, err := w.run(t.Context(), w.plan(toQcow2()), func(p step.Progress) {
		if len(steps) == 0 || steps[len(steps)-1] != p.Step {
			steps = append(steps, p.Step)
		}
	})
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Equal(t, r.Source.Fingerprint, r.Destination.Fingerprint)
	assert.NotEmpty(t, r.Source.Fingerprint)
	assert.Equal(t, int64(11<<20), r.BytesWritten)
	assert.GreaterOrEqual(t, r.BytesCompared, int64(11<<20))
	assert.Equal(t, []string{"look", "fill", "secure", "prove", "publish"}, steps)
	assert.Len(t, r.Steps, 5)
	w.untouched("gate-kiosk.qcow2")

	var text bytes.Buffer
	require.NoError(t, r.WriteText(&text))
	for _, part := range []string{"PROVEN", r.Source.Fingerprint, "virtual size 24 MiB (25,165,824 bytes)", "read back from storage"} {
		assert.Contains(t, text.String(), part)
	}
}

func TestWithoutProof(t *testing.T) {
	w := newWorld(t)
	request := toQcow2()
	request.NoProof = true
	r, err := w.run(t.Context(), w.plan(request), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Unproven, r.Outcome)
	assert.Empty(t, r.Destination.Fingerprint)
	assert.NotEmpty(t, r.Source.Fingerprint)
}

// TestSizeIsRounded: what is added is zeros, and is proven to be.
func TestSizeIsRounded(t *testing.T) {
	w := newWorld(t)
	odd := w.source[:3<<20+700]
	require.NoError(t, os.WriteFile(filepath.Join(w.from, "odd.raw"), odd, 0o600))
	request := toQcow2()
	request.Source.Path = "odd.raw"
	r, err := w.run(t.Context(), w.plan(request), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Equal(t, int64(3<<20+1024), r.Destination.VirtualSize)
	assert.NotEqual(t, r.Source.Fingerprint, r.Destination.Fingerprint)
	assert.Contains(t, r.Compared, "followed by zeros")
}

func TestCancelAtEveryStep(t *testing.T) {
	for _, kind := range []string{"look", "fill", "secure", "prove", "publish"} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			p := w.plan(toQcow2())
			ctx, cancel := context.WithCancelCause(t.Context())
			defer cancel(nil)
			r, err := w.run(ctx, p, func(p step.Progress) {
				if p.Step == kind {
					cancel(errors.New("the operator changed their mind"))
				}
			})
			require.ErrorContains(t, err, "changed their mind")
			assert.Equal(t, receipt.Cancelled, r.Outcome)
			w.untouched()
		})
	}
}

// twisted spoils what is read back from the destination.
type twisted struct{ storage.Folder }

func (f twisted) Fresh() storage.Folder { return twistedFresh(f) }

type twistedFresh struct{ storage.Folder }

func (f twistedFresh) Open(name string) (storage.File, error) {
	file, err := f.Folder.Open(name)
	return twistedFile{file}, err
}

type twistedFile struct{ storage.File }

func (f twistedFile) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.File.ReadAt(p, off)
	if const8M := int64(8 << 20); off <= const8M && off+int64(n) > const8M {
		p[const8M-off] ^= 0x10
	}
	return n, err
}

// TestAFlippedBitIsFound: the proof reads what the storage gives back, says where it differs, and nothing is put in place.
func TestAFlippedBitIsFound(t *testing.T) {
	w := newWorld(t)
	w.ends.Destination = twisted{w.ends.Destination}
	request := toQcow2()
	request.As, request.Destination.Path = "raw", "gate-kiosk.raw"
	r, err := w.run(t.Context(), w.plan(request), nil)
	require.ErrorIs(t, err, step.ErrNotProven)
	assert.Equal(t, receipt.Failed, r.Outcome)
	require.Len(t, r.Differences, 1)
	assert.Equal(t, int64(8<<20), r.Differences[0].Offset)
	assert.Equal(t, int64(1<<20), r.Differences[0].Length)
	w.untouched()
}

func TestReplaceKeepsTheOldOneUntilTheNewOneIsProven(t *testing.T) {
	w := newWorld(t)
	old := filepath.Join(w.to, "gate-kiosk.raw")
	require.NoError(t, os.WriteFile(old, []byte("the only copy"), 0o600))
	request := toQcow2()
	request.As, request.Destination.Path = "raw", "gate-kiosk.raw"
	assert.True(t, w.plan(request).Blocked())
	request.Replace = true

	plain := w.ends.Destination
	w.ends.Destination = twisted{plain}
	_, err := w.run(t.Context(), w.plan(request), nil)
	require.ErrorIs(t, err, step.ErrNotProven)
	b, err := os.ReadFile(old)
	require.NoError(t, err)
	assert.Equal(t, "the only copy", string(b))

	w.ends.Destination = plain
	_, err = w.run(t.Context(), w.plan(request), func(p step.Progress) {
		if p.Step == "publish" {
			return
		}
		b, err := os.ReadFile(old)
		require.NoError(t, err)
		assert.Equal(t, "the only copy", string(b), p.Step)
	})
	require.NoError(t, err)
	b, err = os.ReadFile(old)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(w.source, b))
	w.untouched("gate-kiosk.raw")
}

// TestAnImageOfSeveralFilesIsWholeOrAbsent: where the last file cannot get its name, the others give theirs back.
func TestAnImageOfSeveralFilesIsWholeOrAbsent(t *testing.T) {
	w := newWorld(t)
	made := &work{Job: step.Job{ID: "test-1", Ends: w.ends}, state: State{Files: []string{"deck-flat.vmdk", "deck.vmdk"}}}
	made.disk.After = &plan.Side{Place: plan.Place{Path: "ferry/deck.vmdk"}}
	made.disk.Files = []string{"ferry/deck-flat.vmdk", "ferry/deck.vmdk"}
	made.disk.Request.Destination = &plan.Place{Path: "ferry/deck.vmdk"}
	stage := func() {
		for _, name := range made.state.Files {
			f, err := w.ends.Destination.Create(made.staging() + "/" + name)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("new"), 0)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}
	}
	stage()
	theirs := filepath.Join(w.to, "ferry", "deck.vmdk")
	require.NoError(t, os.MkdirAll(filepath.Dir(theirs), 0o700))
	require.NoError(t, os.WriteFile(theirs, []byte("old"), 0o600))
	require.ErrorContains(t, made.giveNames(t.Context()), "came into being meanwhile")
	entries, err := os.ReadDir(filepath.Dir(theirs))
	require.NoError(t, err)
	require.Len(t, entries, 1)

	made.disk.Request.Replace = true
	require.NoError(t, made.giveNames(t.Context()))
	for _, name := range made.state.Files {
		b, err := os.ReadFile(filepath.Join(w.to, "ferry", name))
		require.NoError(t, err)
		assert.Equal(t, "new", string(b))
	}
	require.NoError(t, made.Clear())
	w.untouched("ferry")
}

// TestSomebodyElseTakesTheName while the job runs.
func TestSomebodyElseTakesTheName(t *testing.T) {
	w := newWorld(t)
	theirs := filepath.Join(w.to, "gate-kiosk.qcow2")
	r, err := w.run(t.Context(), w.plan(toQcow2()), func(p step.Progress) {
		if p.Step == "prove" {
			require.NoError(t, os.WriteFile(theirs, []byte("theirs"), 0o600))
		}
	})
	require.ErrorContains(t, err, "came into being meanwhile")
	assert.Equal(t, receipt.Failed, r.Outcome)
	b, err := os.ReadFile(theirs)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(b))
	w.untouched("gate-kiosk.qcow2")
}

func TestSourceChangesOrGoes(t *testing.T) {
	for name, do := range map[string]func(path string) error{
		"changes": func(path string) error {
			if err := os.Chmod(path, 0o600); err != nil {
				return err
			}
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			_, err = f.WriteAt([]byte("news"), 5<<20)
			return errors.Join(err, f.Close())
		},
		"goes": os.Remove,
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			done := false
			r, err := w.run(t.Context(), w.plan(toQcow2()), func(p step.Progress) {
				if p.Step == "prove" && !done {
					done = true
					require.NoError(t, do(filepath.Join(w.from, "gate-kiosk.raw")))
				}
			})
			require.Error(t, err)
			assert.Equal(t, receipt.Failed, r.Outcome)
			assert.Regexp(t, "the source changed|looking at gate-kiosk.raw again", r.Reason)
			entries, err := os.ReadDir(w.to)
			require.NoError(t, err)
			assert.Empty(t, entries)
		})
	}
}

// TestSourceIsCut: a file that ends too soon never passes.
func TestSourceIsCut(t *testing.T) {
	w := newWorld(t)
	p := w.plan(toQcow2())
	require.NoError(t, os.Chmod(filepath.Join(w.from, "gate-kiosk.raw"), 0o600))
	_, err := w.run(t.Context(), p, func(p step.Progress) {
		if p.Step == "look" {
			require.NoError(t, os.Truncate(filepath.Join(w.from, "gate-kiosk.raw"), 5<<20))
		}
	})
	require.Error(t, err)
	entries, err := os.ReadDir(w.to)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// mount mounts a filesystem of its own, which takes root.
func mount(t *testing.T, kind, options string, flags uintptr) string {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting a filesystem takes root")
	}
	dir := t.TempDir()
	if err := unix.Mount("none", dir, kind, flags, options); err != nil {
		t.Skipf("mounting %s is not possible here: %v", kind, err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(dir, unix.MNT_DETACH)) })
	return dir
}

// TestDestinationFillsUp: the plan sees it where it can; when somebody else fills it meanwhile, nothing is left behind.
func TestDestinationFillsUp(t *testing.T) {
	w := newWorldIn(t, mount(t, "tmpfs", "size=8m", 0))
	p := w.plan(toQcow2())
	assert.True(t, p.Blocked())
	assert.Contains(t, p.Checks[len(p.Checks)-1].Message, "make room or choose another pool")
	_, err := w.run(t.Context(), p, nil)
	require.ErrorIs(t, err, step.ErrBlocked)

	p.Checks = nil // as if the room had been there when the plan was made
	r, err := w.run(t.Context(), p, nil)
	require.ErrorIs(t, err, unix.ENOSPC)
	assert.Contains(t, r.Reason, "the destination is full: make room")
	assert.Equal(t, receipt.Failed, r.Outcome)
	w.untouched()
}

func TestDestinationIsReadOnly(t *testing.T) {
	dir := mount(t, "tmpfs", "size=64m", 0)
	require.NoError(t, unix.Mount("none", dir, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	w := newWorldIn(t, dir)
	p := w.plan(toQcow2())
	assert.True(t, p.Blocked())
	p.Checks = nil
	r, err := w.run(t.Context(), p, nil)
	require.ErrorIs(t, err, unix.EROFS)
	assert.Contains(t, r.Reason, "remount it writable")
	w.untouched()
}

// TestSourceIsReadOnly: nothing more is asked of it.
func TestSourceIsReadOnly(t *testing.T) {
	dir := mount(t, "tmpfs", "size=64m", 0)
	require.NoError(t, exec.Command("cp", filepath.Join(newWorld(t).from, "gate-kiosk.raw"), dir).Run())
	require.NoError(t, unix.Mount("none", dir, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	w := newWorld(t)
	w.ends.Source = w.folder(dir)
	r, err := w.run(t.Context(), w.plan(toQcow2()), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
}

func TestProve(t *testing.T) {
	w := newWorld(t)
	converted, err := w.run(t.Context(), w.plan(toQcow2()), nil)
	require.NoError(t, err)
	want := converted.Source.Fingerprint
	w.ends.Source, w.ends.Destination = w.ends.Destination, nil

	prove := plan.Request{Kind: plan.Prove, Source: plan.Place{Path: "gate-kiosk.qcow2"}, Against: want}
	r, err := w.run(t.Context(), w.plan(prove), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)

	prove.Against = ""
	r, err = w.run(t.Context(), w.plan(prove), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Unproven, r.Outcome)
	assert.Equal(t, want, r.Source.Fingerprint)

	prove.Against = "bf1-" + want[5:] + "0"
	_, err = w.run(t.Context(), w.plan(prove), nil)
	require.ErrorIs(t, err, step.ErrNotProven)
}

// TestClearLeavesOthersAlone: other jobs use the same staging folder.
func TestClearLeavesOthersAlone(t *testing.T) {
	w := newWorld(t)
	for _, id := range []string{"mine", "theirs"} {
		require.NoError(t, os.MkdirAll(filepath.Join(w.to, StagingFolder, id, "deep"), 0o700))
	}
	require.NoError(t, Clear(w.ends.Destination, "mine"))
	assert.NoDirExists(t, filepath.Join(w.to, StagingFolder, "mine"))
	assert.DirExists(t, filepath.Join(w.to, StagingFolder, "theirs"))
	require.NoError(t, Clear(w.ends.Destination, "theirs"))
	_, err := os.Stat(filepath.Join(w.to, OwnFolder))
	require.ErrorIs(t, err, fs.ErrNotExist)
}
