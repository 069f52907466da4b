package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAFamilyIsRenamedInItsFolder: what comes along keeps its name, is no obstacle, and is neither copied nor released.
func TestAFamilyIsRenamedInItsFolder(t *testing.T) {
	for _, format := range []struct{ name, base, overlay string }{{"qcow2", "thin", "overlay"}, {"vmdk", "flat", "delta"}, {"vhd", "dynamic", "differencing"}, {"vhdx", "dynamic", "differencing"}} {
		t.Run(format.name, func(t *testing.T) {
			v := newVoyage(t, 1)
			ext := "." + format.name
			base := v.make(format.name, format.base, "base"+ext, "")
			top := v.make(format.name, format.overlay, "top"+ext, base)
			v.make(format.name, format.overlay, "deep"+ext, top)
			p := v.plan(
				plan.Request{
					Kind:        plan.Copy,
					Source:      plan.Place{Pool: "quay", Path: base},
					Destination: &plan.Place{Pool: "quay", Path: "a-much-longer-root" + ext},
					Release:     true,
					Family:      true,
				},
			)
			require.False(t, p.Blocked(), "%+v", p.Checks)
			assert.True(t, p.Bodies[0].Renames)
			assert.Zero(t, p.BytesToWrite)
			_, err := v.run(p, nil)
			require.NoError(t, err)
			v.renamed("quay", base, "quay", "a-much-longer-root"+ext)
			v.check()
			held, err := ListHeld(v.pools["quay"])
			require.NoError(t, err)
			assert.Empty(t, held)
			for _, name := range []string{"a-much-longer-root", "top", "deep"} {
				proof, err := Prepare(
					t.Context(),
					step.Ends{Source: v.pools["quay"]},
					plan.Request{Kind: plan.Prove, Source: plan.Place{Path: name + ext}, Tag: plan.TagBeside},
					step.Known{},
				)
				require.NoError(t, err)
				r, err := solo{ID: "prove", Ends: step.Ends{Source: v.pools["quay"]}, Plan: proof}.Run(t.Context())
				require.NoError(t, err)
				assert.Equal(t, receipt.Proven, r.Outcome, "by its tag")
				tag, err := besideTag(v.pools["quay"], name+ext, r.Source.VirtualSize)
				require.NoError(t, err)
				assert.True(t, fitsFiles(v.pools["quay"], tag.Files, "."), "the tag of %s speaks of the file as it is now", name)
			}
		})
	}
}

// TestFamilies: after any move, copy, rename or undo of any family, every disk that was there before is there after with its content,
// under the name that the plan said.
func TestFamilies(t *testing.T) {
	worlds := 6
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_WORLDS")); err == nil {
		worlds = n
	}
	if testing.Short() {
		worlds = 2
	}
	did := map[string]int{}
	for seed := range worlds {
		t.Run(strconv.Itoa(seed), func(t *testing.T) {
			v := newVoyage(t, uint64(seed))
			v.populate()
			for range 6 {
				did[v.step()]++
			}
		})
	}
	t.Log(did)
	if testing.Short() {
		return
	}
	for _, what := range []string{"renamed", "moved", "copied", "blocked"} {
		assert.NotZero(t, did[what], "worlds are such that this happens")
	}
}

const smallDisk = 3 << 20

// drive is a folder on a storage of its own.
type drive struct{ storage.Folder }

func (d drive) Space() (storage.Space, error) {
	s, err := d.Folder.Space()
	s.ID = "drive"
	return s, err
}

func (d drive) MoveIn(from storage.Folder, a, b string) error {
	if x, ok := from.(drive); ok {
		return d.Folder.(storage.Mover).MoveIn(x.Folder, a, b)
	}
	return errors.ErrUnsupported
}

func (d drive) Moves(from storage.Folder, a, b string) bool {
	x, ok := from.(drive)
	return ok && d.Folder.(storage.Mover).Moves(x.Folder, a, b)
}

// voyage is a world of disks in two pools, on two storages, of which the content of each disk is known.
type voyage struct {
	*testing.T
	rand  *rand.Rand
	pools map[string]storage.Folder
	disks map[plan.Place][]byte // by pool and path
	from  string                // folder for contents
	quay  string                // folder of that pool

	jobs    int
	id      string // of the job at hand
	records *notebook
}

func newVoyage(t *testing.T, seed uint64) *voyage {
	w := &world{t: t}
	v := &voyage{T: t, rand: rand.New(rand.NewPCG(seed, 7)), disks: map[plan.Place][]byte{}, from: t.TempDir(), quay: t.TempDir()}
	v.pools = map[string]storage.Folder{"quay": w.folder(v.quay), "seabag": drive{w.folder(t.TempDir())}}
	return v
}

func pick[T any](v *voyage, from []T) T { return from[v.rand.IntN(len(from))] }

// make makes a disk in the pool quay, which stands on another one or differs from all.
func (v *voyage) make(format, layout, name, base string) string {
	v.Helper()
	content := make([]byte, smallDisk)
	if base != "" {
		copy(content, v.disks[plan.Place{Pool: "quay", Path: base}])
	}
	for range 5 {
		at := v.rand.IntN(smallDisk - 5000)
		for i := range 5000 {
			content[at+i] = byte(v.rand.Uint32())
		}
	}
	source := fmt.Sprintf("%d.raw", len(v.disks))
	require.NoError(v, os.WriteFile(filepath.Join(v.from, source), content, 0o600))
	ends := step.Ends{Source: (&world{t: v.T}).folder(v.from), Destination: v.pools["quay"]}
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Path: source},
		Destination: &plan.Place{Path: name},
		As:          format,
		Layout:      layout,
		Base:        base,
	}
	p, err := Prepare(v.Context(), ends, r, step.Known{})
	require.NoError(v, err)
	require.False(v, p.Blocked(), "%+v", p.Checks)
	_, err = solo{ID: "make", Ends: ends, Plan: p}.Run(v.Context())
	require.NoError(v, err)
	v.disks[plan.Place{Pool: "quay", Path: p.After[0].Place.Path}] = content
	return p.After[0].Place.Path
}

// populate makes trees of overlays in folders, with names that are alike.
func (v *voyage) populate() {
	families := []struct{ format, base, overlay string }{
		{"qcow2", "thin", "overlay"},
		{"vmdk", "sparse", "delta"},
		{"vmdk", "flat", "delta"},
		{"vhd", "dynamic", "differencing"},
		{"vhdx", "dynamic", "differencing"},
	}
	for range 1 + v.rand.IntN(2) {
		f := pick(v, families)
		var tree []string
		for range 2 + v.rand.IntN(3) {
			name := path.Join(pick(v, []string{".", ".", "slip", "slip/a"}), pick(v, []string{"disk", "disk-1", "top", "tide board"})+"."+f.format)
			if v.taken(name) {
				continue
			}
			layout, base := f.base, ""
			if len(tree) > 0 {
				layout, base = f.overlay, pick(v, tree)
			}
			tree = append(tree, v.make(f.format, layout, name, base))
		}
	}
}

func (v *voyage) taken(name string) bool {
	_, there := v.disks[plan.Place{Pool: "quay", Path: name}]
	return there
}

func (v *voyage) places() []plan.Place {
	places := make([]plan.Place, 0, len(v.disks))
	for p := range v.disks {
		places = append(places, p)
	}
	slices.SortFunc(places, func(a, b plan.Place) int { return bytes.Compare([]byte(a.String()), []byte(b.String())) })
	return places
}

// step asks for something at random, and tells what happened.
func (v *voyage) step() string {
	from := pick(v, v.places())
	ext := path.Ext(from.Path)
	to := plan.Place{
		Pool: pick(v, []string{"quay", "quay", "seabag"}),
		Path: path.Join(
			pick(v, []string{path.Dir(from.Path), path.Dir(from.Path), "pier", "slip"}),
			pick(v, []string{"disk", "top", "root", "a-longer-name", path.Base(from.Path[:len(from.Path)-len(ext)])})+ext,
		),
	}
	r := plan.Request{
		Kind:        plan.Copy,
		Source:      from,
		Destination: &to,
		Release:     v.rand.IntN(4) > 0,
		Family:      v.rand.IntN(3) > 0,
		Replace:     v.rand.IntN(4) == 0,
	}
	p := v.plan(r)
	if p.Blocked() {
		v.check()
		return "blocked"
	}
	stop := &stopping{after: 1 << 30}
	if v.rand.IntN(3) == 0 {
		stop.after = v.rand.IntN(6)
	}
	_, err := v.run(p, stop)
	switch {
	case err != nil && stop.stopped && r.Release && p.Bodies[0].Renames && v.rand.IntN(2) == 0: // it is called off
		_, err = v.task(p, nil).task().CallOff(v.Context())
		require.NoError(v, err)
		require.NoError(v, Clear(v.pools[to.Pool], v.id))
		v.check()
		return "called off"
	case err != nil && stop.stopped: // it goes on
		_, err = v.run(p, nil)
	}
	require.NoError(v, err, "%s to %s: %+v", from, to, r)
	v.expect(p)
	v.check()
	if !r.Release {
		return "copied"
	}
	if p.Bodies[0].Renames {
		return "renamed"
	}
	if v.rand.IntN(2) == 0 {
		v.undo(p)
	}
	return "moved"
}

// expect notes where the plan said that disks would be.
func (v *voyage) expect(p plan.Plan) {
	v.disks = maps.Clone(v.disks)
	from, to := p.Request.Source.Pool, p.Request.Destination.Pool
	moved := map[plan.Place][]byte{}
	for place, content := range v.disks {
		for _, c := range p.Bodies[0].Copied {
			if place == (plan.Place{Pool: from, Path: c.From}) {
				moved[plan.Place{Pool: to, Path: path.Join(p.Bodies[0].Root, c.To)}] = content
			}
		}
	}
	if p.Request.Release {
		for _, c := range p.Bodies[0].Copied {
			delete(v.disks, plan.Place{Pool: from, Path: c.From})
		}
	}
	for place, content := range moved { // what lay there was replaced
		v.disks[place] = content
	}
}

func (v *voyage) renamed(fromPool, from, toPool, to string) {
	a, b := plan.Place{Pool: fromPool, Path: from}, plan.Place{Pool: toPool, Path: to}
	v.disks[b] = v.disks[a]
	delete(v.disks, a)
}

// undo gives a released family its names back.
func (v *voyage) undo(p plan.Plan) {
	pool := v.pools[p.Request.Source.Pool]
	held, err := ListHeld(pool)
	require.NoError(v, err)
	id := heldID("source of " + v.id)
	require.True(v, slices.ContainsFunc(held, func(h Held) bool { return h.ID == id }), "the source is held")
	_, err = Restore(pool, id, false, HoldFor)
	require.NoError(v, err)
	for _, c := range p.Bodies[0].Copied {
		if content, ok := v.disks[plan.Place{Pool: p.Request.Destination.Pool, Path: path.Join(p.Bodies[0].Root, c.To)}]; ok {
			v.disks[plan.Place{Pool: p.Request.Source.Pool, Path: c.From}] = content
		}
	}
	v.check()
}

func (v *voyage) plan(r plan.Request) plan.Plan {
	v.Helper()
	v.jobs++
	v.id, v.records = fmt.Sprintf("job-%d", v.jobs), &notebook{}
	p, err := Prepare(
		v.Context(),
		v.ends(r),
		r,
		step.Known{Standing: v.standing(r.Source.Pool), StandingThere: v.standing(r.Destination.Pool)},
	)
	require.NoError(v, err)
	return p
}

func (v *voyage) ends(r plan.Request) step.Ends {
	return step.Ends{Source: v.pools[r.Source.Pool], Destination: v.pools[r.Destination.Pool]}
}

func (v *voyage) task(p plan.Plan, stop *stopping) solo {
	ends := v.ends(p.Request)
	if stop != nil {
		ends.Source, ends.Destination = stoppingFolder{ends.Source, stop}, stoppingFolder{ends.Destination, stop}
	}
	return solo{ID: v.id, Ends: ends, Plan: p, Records: v.records, Hold: HoldFor, By: v.id}
}

func (v *voyage) run(p plan.Plan, stop *stopping) (receipt.Receipt, error) {
	return v.task(p, stop).Run(v.Context())
}

// standing finds the disks of a pool that stand on files.
func (v *voyage) standing(pool string) func(ctx context.Context, files []string) ([]string, error) {
	return func(ctx context.Context, files []string) (names []string, err error) {
		for _, p := range v.places() {
			if p.Pool != pool {
				continue
			}
			r, err := disk.Open(ctx, v.pools[pool], p.Path, "")
			if err != nil {
				return nil, err
			}
			if slices.ContainsFunc(r.Describe().Chain, func(f string) bool { return slices.Contains(files, f) }) {
				names = append(names, p.Path)
			}
			if err := r.Close(); err != nil {
				return nil, err
			}
		}
		return names, nil
	}
}

// storedIn is an offset of a disk in the pool quay that is stored in the file which opens it, not in one below.
func (v *voyage) storedIn(name string) int64 {
	r, err := disk.Open(v.Context(), v.pools["quay"], name, "")
	require.NoError(v, err)
	defer r.Close()
	for off := int64(0); off < r.Size(); {
		at, err := r.(disk.Locator).Locate(off)
		require.NoError(v, err)
		if at.Kind == disk.Data && at.File == name {
			return off
		}
		off = at.End()
	}
	require.Fail(v, "nothing is stored in "+name)
	return 0
}

// check fails unless every disk opens where it should be, with its content, and no file of a disk lies about that belongs to none.
func (v *voyage) check() {
	v.Helper()
	for p, want := range v.disks {
		r, err := disk.Open(v.Context(), v.pools[p.Pool], p.Path, "")
		require.NoError(v, err, "%s", p)
		got := make([]byte, r.Size())
		_, err = r.ReadAt(got, 0)
		require.NoError(v, err, "%s", p)
		require.True(v, bytes.Equal(want, got[:smallDisk]), "%s has another content", p)
		require.NoError(v, r.Close())
	}
	for name, pool := range v.pools {
		infos, err := pool.List(StagingFolder)
		require.True(v, err == nil && len(infos) == 0 || errors.Is(err, os.ErrNotExist), "%s: %v", name, infos)
	}
}
