package disks

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/core/adapt"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lying is what lies in folders outside of what is ours, by path.
func lying(t *testing.T, dirs ...string) map[string][sha256.Size]byte {
	t.Helper()
	out := map[string][sha256.Size]byte{}
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				if err == nil && d.Name() == OwnFolder {
					err = fs.SkipDir
				}
				return err
			}
			b, err := os.ReadFile(name)
			out[name] = sha256.Sum256(b)
			return err
		}))
	}
	return out
}

// round is a world with a disk, a machine that uses it, and a request. Every kind of step is in the plan of one of them.
type round struct {
	name    string
	request plan.Request
	same    bool // both ends are on one filesystem
	there   bool // something lies at the destination
	machine bool // it is a disk of one that moves
	fits    bool // a filesystem is on it, which gets another size
	one     bool // both ends are one folder
}

func rounds() []round {
	from, to := plan.Place{Path: "gate-kiosk.raw"}, &plan.Place{Path: "deck/kiosk.raw"}
	as := &plan.Place{Path: "deck/kiosk.qcow2"}
	all := []round{
		{name: "convert", request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2"}},
		{name: "convert to pieces", request: plan.Request{Kind: plan.Convert, Source: from, Destination: to, As: "raw", Layout: "pieces"}},
		{
			name:    "convert, replaced",
			request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", Replace: true},
			there:   true,
		},
		{name: "convert, unproven", request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", NoProof: true}},
		{name: "convert and release", request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", Release: true}},
		{
			name:    "made to fit",
			request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", Release: true, Size: 40 << 20},
			fits:    true,
		},
		{name: "copy", request: plan.Request{Kind: plan.Copy, Source: from, Destination: to}},
		{name: "move", request: plan.Request{Kind: plan.Copy, Source: from, Destination: to, Release: true}},
		{
			name:    "move, replaced",
			request: plan.Request{Kind: plan.Copy, Source: from, Destination: to, Release: true, Replace: true},
			there:   true,
		},
		{name: "rename", request: plan.Request{Kind: plan.Copy, Source: from, Destination: to, Release: true}, same: true},
		{
			name:    "linked",
			request: plan.Request{Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", Layout: "overlay", Base: from.Path, Linked: true},
			one:     true,
		},
		{name: "remove", request: plan.Request{Kind: plan.Remove, Source: from}},
		{name: "prove", request: plan.Request{Kind: plan.Prove, Source: from}},
		{name: "prove against another disk", request: plan.Request{Kind: plan.Prove, Source: from, AgainstDisk: &plan.Place{Path: "twin.raw"}}},
		{name: "copy for a machine", request: plan.Request{Kind: plan.Copy, Source: from, Destination: to}, machine: true},
	}
	if canFit() == "" {
		all = append(all, round{name: "in a new place", request: plan.Request{
			Kind: plan.Convert, Source: from, Destination: as, As: "qcow2", Release: true, NewPlace: &adapt.Wish{Bus: "virtio"},
		}})
	}
	return all
}

// trip is a round under way.
type trip struct {
	*world
	round
	definitions string
	task        solo
	before      map[string][sha256.Size]byte
}

// begin makes the world of a round, and plans.
func (r round) begin(t *testing.T) *trip {
	t.Helper()
	x := &trip{world: newWorld(t), round: r, definitions: t.TempDir()}
	x.source = x.source[:powerCutSize]
	require.NoError(t, os.Chmod(filepath.Join(x.from, "gate-kiosk.raw"), 0o600))
	require.NoError(t, os.Truncate(filepath.Join(x.from, "gate-kiosk.raw"), powerCutSize))
	if r.fits {
		x.filled()
	}
	if r.request.NewPlace != nil {
		x.guest()
	}
	x.ends.Against = x.ends.Source
	require.NoError(t, os.WriteFile(filepath.Join(x.from, "twin.raw"), x.source, 0o600))
	switch {
	case r.one:
		x.ends.Destination = x.ends.Source
	case !r.same:
		x.ends.Destination = apart{x.ends.Destination}
	}
	if r.there {
		old := r.request
		old.Replace, old.Release, old.Source = false, false, plan.Place{Path: "old.raw"}
		require.NoError(t, os.WriteFile(filepath.Join(x.from, "old.raw"), make([]byte, 4<<20), 0o600))
		_, err := solo{ID: "old", Ends: x.ends, Plan: x.plan(old)}.Run(t.Context())
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(
		filepath.Join(x.definitions, "kiosk.xml"),
		[]byte(
			"<domain><name>kiosk</name><devices><disk><driver type='raw'/><source file='/srv/quay/gate-kiosk.raw'/></disk></devices></domain>",
		),
		0o640,
	))
	x.ends.Definitions = map[string]storage.Folder{"definitions": x.folder(x.definitions)}
	known := x.known()
	if r.request.Kind == plan.Remove { // what a machine names stays
		known.Users = nil
	}
	p, err := Prepare(t.Context(), x.ends, r.request, known)
	require.NoError(t, err)
	require.False(t, p.Blocked(), "%+v", p.Checks)
	if r.machine { // which moves: its steps are around those of its disk
		for _, kind := range []string{plan.StepStill, plan.StepPart} {
			p.Steps = append(p.Steps, plan.Step{ID: plan.FirstDisk + "." + kind, Kind: kind, Title: "See that nothing was written"})
		}
	}
	x.task = solo{ID: "test-1", Ends: x.ends, Plan: p, Hold: HoldFor, By: "job 7", Records: &notebook{marks: map[string][][]byte{}}}
	x.before = lying(t, x.from, x.to, x.definitions)
	return x
}

func (x *trip) known() step.Known {
	return step.Known{
		SourceRoot: volumes.Ground{Folder: "/srv/quay"},
		Root:       volumes.Ground{Folder: "/srv/lighthouse"},
		Users: func(_ context.Context, files []string) ([]plan.User, error) {
			if !slices.Contains(files, "gate-kiosk.raw") {
				return nil, nil
			}
			return []plan.User{
				{
					Name:   "kiosk",
					Pool:   "definitions",
					Path:   "kiosk.xml",
					Format: "domain-xml",
					Folder: "/etc/machines",
					Files:  []string{"/srv/quay/gate-kiosk.raw"},
				},
			}, nil
		},
	}
}

// broken has everything stop behind some operations on names.
func (x *trip) broken(after int) (step.Ends, *stopping) {
	stop := &stopping{after: after}
	ends := step.Ends{
		Scratch:     x.ends.Scratch,
		Against:     x.ends.Against,
		Source:      stoppingFolder{x.folder(x.from), stop},
		Definitions: map[string]storage.Folder{"definitions": stoppingFolder{x.folder(x.definitions), stop}},
	}
	if ends.Destination = stop.in(x.folder(x.to), x.same); x.one {
		ends.Destination = ends.Source
	}
	return ends, stop
}

// ended is the job of a task that has.
func (x *trip) ended(t *testing.T) Ended {
	t.Helper()
	state, err := x.task.Records.Load(t.Context())
	require.NoError(t, err)
	b, err := json.Marshal(state)
	require.NoError(t, err)
	return Ended{Job: "7", Task: x.task.ID, Plan: x.task.Plan, Journal: b, Finished: time.Now()}
}

// back plans to take the job back.
func (x *trip) back(t *testing.T) solo {
	t.Helper()
	e := x.ended(t)
	if x.request.Kind == plan.Remove {
		p, err := PrepareReturn(x.ends, e, e.Plan.Bodies[0])
		require.NoError(t, err)
		require.False(t, p.Blocked(), "%+v", p.Checks)
		return solo{ID: "test-2", Ends: x.ends, Plan: p, Hold: HoldFor, By: "job 8", Records: &notebook{marks: map[string][][]byte{}}}
	}
	var p plan.Plan
	reverse, renamed, _, err := e.Reverse(x.ends)
	require.NoError(t, err)
	if renamed {
		known := x.known()
		known.SourceRoot, known.Root = known.Root, known.SourceRoot
		known.Users = func(context.Context, []string) ([]plan.User, error) {
			return []plan.User{
				{
					Name:   "kiosk",
					Pool:   "definitions",
					Path:   "kiosk.xml",
					Format: "domain-xml",
					Folder: "/etc/machines",
					Files:  []string{"/srv/lighthouse/deck/kiosk.raw"},
				},
			}, nil
		}
		p, err = Prepare(t.Context(), step.Ends{Source: x.ends.Destination, Destination: x.ends.Source}, reverse, known)
	} else {
		p, err = PrepareUndo(t.Context(), x.ends, e, plan.FirstDisk, x.known())
	}
	require.NoError(t, err)
	require.False(t, p.Blocked(), "%+v", p.Checks)
	task := solo{ID: "test-2", Ends: x.ends, Plan: p, Hold: HoldFor, By: "job 8", Records: &notebook{marks: map[string][][]byte{}}}
	if x.same {
		task.Ends.Source, task.Ends.Destination = x.ends.Destination, x.ends.Source
	}
	return task
}

// isAsBefore: the same files with the same content lie there as before the job, and nothing else.
func (x *trip) isAsBefore(t *testing.T, moment string, args ...any) {
	t.Helper()
	now := lying(t, x.from, x.to, x.definitions)
	assert.Equal(t, slices.Sorted(maps.Keys(x.before)), slices.Sorted(maps.Keys(now)), append([]any{moment}, args...)...)
	for name, sum := range x.before {
		if !strings.HasSuffix(name, ".bagtag") { // which is made anew when a disk gets other names
			assert.Equal(t, sum, now[name], append([]any{name + ", " + moment}, args...)...)
		}
	}
}

// TestEveryKindOfStep: done; interrupted behind every operation on names and done; done and taken back, also when that is interrupted
// behind every operation; taken back twice.
func TestEveryKindOfStep(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, r := range rounds() {
		for _, s := range r.begin(t).task.Plan.Steps {
			seen[s.Kind] = true
		}
		t.Run(r.name, func(t *testing.T) {
			first, by := fewer.Stride(t, 4)
			for n := first; ; n += by { // operations until it stops
				x := r.begin(t)
				broken := x.task
				var stop *stopping
				broken.Ends, stop = x.broken(n)
				_, err := broken.Run(t.Context())
				if stop.stopped {
					require.ErrorIs(t, err, storage.ErrLost, "behind operation %d", n)
				}
				done, err := x.task.Run(t.Context())
				if !stop.stopped {
					break
				}
				if r.same && err != nil { // it was undone, and may be planned again
					x = r.begin(t)
					done, err = x.task.Run(t.Context())
				}
				require.NoError(t, err, "behind operation %d", n)
				assert.Contains(t, []receipt.Outcome{receipt.Proven, receipt.Unproven}, done.Outcome)
			}
			if r.request.Kind == plan.Prove { // it did nothing
				return
			}
			for n := first; ; n += by {
				x := r.begin(t)
				_, err := x.task.Run(t.Context())
				require.NoError(t, err)
				task := x.back(t)
				broken := task
				ends, stop := x.broken(n)
				if broken.Ends = ends; x.same {
					broken.Ends.Source, broken.Ends.Destination = ends.Destination, ends.Source
				}
				_, err = broken.Run(t.Context())
				if stop.stopped {
					require.ErrorIs(t, err, storage.ErrLost, "behind operation %d of taking it back", n)
				}
				done, err := task.Run(t.Context())
				if r.same && err != nil && stop.stopped { // likewise
					done, err = x.back(t).Run(t.Context())
				}
				if !r.same || stop.stopped {
					require.NoError(t, err, "taking it back, stopped behind operation %d", n)
					assert.Equal(t, receipt.Proven, done.Outcome)
				}
				x.isAsBefore(t, "taken back, stopped behind operation %d", n)
				if !stop.stopped {
					break
				}
			}
		})
	}
	// Disks of computers are in no pool, and do not come back: see TestWritingOverGoesOn, and TestADyingDisk of the service.
	for _, kind := range []string{plan.StepSalvage, plan.StepSave, plan.StepWipe, plan.StepOverwrite, plan.StepReadBack, plan.StepTable} {
		seen[kind] = true
	}
	seen[plan.StepAdapt] = seen[plan.StepAdapt] || canFit() != ""
	for _, kind := range step.Kinds() {
		assert.True(t, seen[kind], "no plan has a step of the kind %s", kind)
	}
}

// TestWhatCannotBeTakenBack says why.
func TestWhatCannotBeTakenBack(t *testing.T) {
	move := rounds()[7]
	for _, c := range []struct {
		name string
		do   func(*testing.T, *trip)
		want string
		goes bool // it warns only
	}{
		{"the image is gone", func(t *testing.T, x *trip) { require.NoError(t, os.Remove(filepath.Join(x.to, "deck/kiosk.raw"))) }, "is not what the job made any more", false},
		{"the image is another one", func(t *testing.T, x *trip) {
			require.NoError(t, os.Remove(filepath.Join(x.to, "deck/kiosk.raw")))
			require.NoError(t, os.WriteFile(filepath.Join(x.to, "deck/kiosk.raw"), x.source, 0o600))
		}, "is not what the job made any more", false},
		{"the source is held no more", func(t *testing.T, x *trip) {
			held, err := ListHeld(x.ends.Source)
			require.NoError(t, err)
			require.NoError(t, DropHeld(x.ends.Source, held[0].ID))
		}, "neither held nor in its place", false},
		{"the source is held no more, and another disk has its name", func(t *testing.T, x *trip) {
			held, err := ListHeld(x.ends.Source)
			require.NoError(t, err)
			require.NoError(t, DropHeld(x.ends.Source, held[0].ID))
			require.NoError(t, os.WriteFile(filepath.Join(x.from, "gate-kiosk.raw"), make([]byte, powerCutSize), 0o600))
		}, "neither held nor in its place", false},
		{"what is held was swapped", func(t *testing.T, x *trip) {
			held, err := ListHeld(x.ends.Source)
			require.NoError(t, err)
			at := filepath.Join(x.from, HeldFolder, held[0].ID, heldFiles, "gate-kiosk.raw")
			require.NoError(t, os.Remove(at))
			require.NoError(t, os.WriteFile(at, make([]byte, powerCutSize), 0o600))
		}, "neither held nor in its place", false},
		{"its name is taken", func(t *testing.T, x *trip) {
			require.NoError(t, os.WriteFile(filepath.Join(x.from, "gate-kiosk.raw"), []byte("new"), 0o600))
		}, "is there now, and nothing is overwritten", false},
		{"something stands on it", func(t *testing.T, x *trip) {
			r := plan.Request{
				Kind: plan.Convert, As: "qcow2", Layout: "overlay", Base: "deck/kiosk.raw",
				Source: plan.Place{Path: "other.raw"}, Destination: &plan.Place{Path: "deck/monday.qcow2"},
			}
			require.NoError(t, os.WriteFile(filepath.Join(x.from, "other.raw"), make([]byte, powerCutSize), 0o600))
			_, err := solo{ID: "monday", Ends: x.ends, Plan: x.plan(r)}.Run(t.Context())
			require.NoError(t, err)
		}, "stand(s) on the image", false},
		{"a machine ran on it", func(t *testing.T, x *trip) {
			later := time.Now().Add(time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(x.to, "deck/kiosk.raw"), later, later))
		}, "what was written since is not in the source", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := move.begin(t)
			_, err := x.task.Run(t.Context())
			require.NoError(t, err)
			early := x.back(t) // planned before it happens
			c.do(t, x)
			before := lying(t, x.from, x.to)
			p, err := PrepareUndo(t.Context(), x.ends, x.ended(t), plan.FirstDisk, x.known())
			require.NoError(t, err)
			assert.Equal(t, !c.goes, p.Blocked())
			var said []string
			for _, check := range p.Checks {
				said = append(said, check.Message)
			}
			assert.Contains(t, strings.Join(said, "\n"), c.want)
			if c.goes {
				return
			}
			_, err = solo{ID: "test-2", Ends: x.ends, Plan: p, Hold: HoldFor}.Run(t.Context())
			require.ErrorIs(t, err, step.ErrBlocked)
			_, err = early.Run(t.Context())
			require.ErrorIs(t, err, step.ErrBlocked)
			assert.ErrorContains(t, err, c.want)
			assert.Equal(t, before, lying(t, x.from, x.to))
		})
	}
}
