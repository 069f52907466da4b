package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/qcow2"
	_ "bagaglio/core/disk/raw"
	"bagaglio/core/fingerprint"
	"bagaglio/core/host"
	"bagaglio/core/job"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layered is what the disk of a machine that runs is stored in: its guest writes the next number to the topmost at each operation.
type layered struct {
	files   []string          // the topmost first
	bases   map[string]string // of images that the host is given, by their files
	written map[string][]int
	last    int
	refuses bool           // to mirror
	memory  storage.Folder // that files with memory lie in, behind a path of the host
	at      string
	forgets bool // what is in such files
	cuts    bool // its answer to Cover is lost, once
	// rebase has an image stand on another file.
	rebase func(file, on string) error
}

func (l *layered) write(machines map[string]*host.Machine) {
	for _, m := range machines {
		if m.State == host.Running && len(l.files) > 0 {
			l.last++
			l.written[l.files[0]] = append(l.written[l.files[0]], l.last)
		}
	}
}

func (f *fake) Layers(context.Context, host.Machine, string) (all []string, err error) {
	err = f.op(func() error { all = slices.Clone(f.layers.files); return nil })
	return all, err
}

// goOn has the machine go on from files.
func (f *fake) goOn(m host.Machine, files ...string) error {
	x := f.machines[m.UUID]
	is, err := machine.Describe(x.Format, x.Definition)
	if err != nil {
		return err
	}
	is.Disks[0].File, is.Disks[0].Format = files[0], "raw"
	if _, image := f.layers.bases[files[0]]; image {
		is.Disks[0].Format = "qcow2"
	}
	f.layers.files = files
	x.Definition, err = machine.Become(nil, "", x.Format, is)
	return err
}

func (f *fake) Cover(_ context.Context, m host.Machine, layers map[string]string, _ bool) (time.Duration, error) {
	return time.Millisecond, f.op(func() error {
		err := f.goOn(m, append([]string{layers["vda"]}, f.layers.files...)...)
		if f.layers.cuts {
			f.layers.cuts, err = false, host.ErrGone
		}
		return err
	})
}

func (f *fake) Merge(_ context.Context, m host.Machine, _, into string) (time.Duration, error) {
	return time.Millisecond, f.op(func() error {
		at := slices.Index(f.layers.files, into)
		if at < 0 {
			return fmt.Errorf("%w: it does not stand on %s", host.ErrRefused, into)
		}
		for _, above := range slices.Backward(f.layers.files[:at]) {
			f.layers.written[into] = append(f.layers.written[into], f.layers.written[above]...)
		}
		return f.goOn(m, f.layers.files[at:]...)
	})
}

func (f *fake) Borrow(ctx context.Context, definition []byte, disks map[string]host.Export) (m host.Machine, err error) {
	m, err = f.Define(ctx, definition)
	if err == nil {
		f.layers.files = []string{disks["vda"].Over}
	}
	return m, err
}

func (f *fake) Fold(_ context.Context, _ host.Machine, _, from, into string) error {
	return f.op(func() error {
		above, below := slices.Index(f.layers.files, from), slices.Index(f.layers.files, into)
		if above < 0 && below >= 0 { // an earlier time did it
			return nil
		}
		if above < 1 || below < above {
			return fmt.Errorf("%w: it does not stand so", host.ErrRefused)
		}
		for _, folded := range slices.Backward(f.layers.files[above:below]) {
			f.layers.written[into] = append(f.layers.written[into], f.layers.written[folded]...)
		}
		f.layers.files = slices.Delete(f.layers.files, above, below)
		return f.layers.rebase(f.layers.files[above-1], into)
	})
}

func (f *fake) Mirror(_ context.Context, m host.Machine, _ string, to machine.Disk) (time.Duration, error) {
	return time.Millisecond, f.op(func() error {
		if f.layers.refuses {
			return fmt.Errorf("%w: it has no room", host.ErrRefused)
		}
		f.layers.written[to.File] = slices.Clone(f.layers.written[f.layers.files[0]])
		return f.goOn(m, to.File, f.layers.bases[to.File])
	})
}

func (f *fake) GiveUp(context.Context, host.Machine, string) error {
	return f.op(func() error { return nil })
}

// liveTask is a task to move the disk of the kiosk while it runs. The new disk has the content of the old one as that stands still.
func liveTask(t *testing.T, w *world) (job.Task, plan.LiveDisk) {
	t.Helper()
	return liveTo(t, w, "quay", asItIs)
}

func asItIs(*plan.Request) {}

// liveTo does so to a host, with a change of the request.
func liveTo(t *testing.T, w *world, to string, change func(*plan.Request)) (job.Task, plan.LiveDisk) {
	t.Helper()
	m := w.quay.has(t, kiosk, host.Running)
	is, err := machine.Describe(m.Format, m.Definition)
	require.NoError(t, err)
	r := plan.Request{Kind: plan.MoveMachine, Machine: "quay:gate-kiosk", To: to, Destination: &plan.Place{Pool: "lamp-room"}, Live: true}
	change(&r)
	require.NoError(t, r.Validate())
	old, now := plan.Place{Pool: "quay-store", Path: "kiosk.raw"}, plan.Place{Pool: "lamp-room", Path: "kiosk/kiosk.raw"}
	side := func(at plan.Place) []plan.Side {
		return []plan.Side{{Place: at, Format: "raw", Layout: "thin", VirtualSize: 1 << 20}}
	}
	p := plan.ForMachine(r, plan.MachineFacts{
		Name:        m.Name,
		State:       string(m.State),
		Format:      m.Format,
		Text:        m.Definition,
		Is:          is,
		Disks:       []plan.Place{old},
		Layers:      true,
		LayersThere: true,
		Saves:       true,
		SavesThere:  true,
		Fresh:       "cafe",
		Pools:       map[string]plan.Reached{"lamp-room": {Host: to, Root: volumes.Ground{Folder: "/lamp"}}},
		ToFormat:    "domain-xml",
	}, []plan.Plan{{Before: side(old), After: side(now)}})
	require.False(t, p.Blocked(), "%+v", p.Checks)
	require.Len(t, p.Machine.Live, 1)
	pools := map[string]storage.Folder{"quay-store": grounded{&memory.Folder{}, "/quay"}, "lamp-room": grounded{&memory.Folder{}, "/lamp"}}
	for _, at := range []plan.Place{old, now} {
		require.NoError(t, storage.WriteFile(pools[at.Pool], at.Path, make([]byte, 1<<20)))
	}
	d := p.Machine.Live[0]
	w.quay.layers = layered{
		files: []string{d.WasFile}, written: map[string][]int{},
		bases: map[string]string{d.CoverAt: d.WasFile, d.TopAt: d.NowFile, d.ReturnAt: d.WasFile},
	}
	w.quay.layers.memory, w.quay.layers.at = pools["quay-store"], "/quay/"
	ends := map[string]step.Ends{plan.MachineSubject: {From: w.quay, To: w.quay, Pools: pools}}
	if to != "quay" {
		for n := range 20 { // covers of passes
			_, at, _ := d.Pass(n)
			w.quay.layers.bases[at] = d.WasFile
		}
		ends[plan.MachineSubject] = step.Ends{From: w.quay, To: w.lighthouse, Pools: pools, Lender: &lends{}}
		w.quay.layers.rebase = func(file, on string) error {
			at := func(file string) plan.Place {
				return plan.Place{Pool: "quay-store", Path: strings.TrimPrefix(file, "/quay/")}
			}
			x := &work{Job: step.Job{Ends: ends[plan.MachineSubject]}, m: *p.Machine}
			return x.layer(t.Context(), at(file), at(on), "qcow2", on)
		}
		w.lighthouse.layers = layered{
			files:   []string{d.TopAt, d.NowFile},
			bases:   map[string]string{d.TopAt: d.NowFile, d.CoverAt: ""},
			written: map[string][]int{},
			memory:  pools["lamp-room"],
			at:      "/lamp/",
		}
	}
	return job.Task{ID: "test-1", Ends: ends, Plan: p, Records: &notes{}, Asks: true}, d
}

// grounded is a folder that knows where it lies.
type grounded struct {
	storage.Folder
	at string
}

func (g grounded) NameOf(name string) (string, bool) { return strings.CutPrefix(name, g.at+"/") }

// has tells whether a file has all numbers that were written, once the disk is copied as it stood still.
func (l *layered) has(t *testing.T, d plan.LiveDisk, file string) {
	t.Helper()
	all := l.written[file]
	if file == d.NowFile {
		all = append(slices.Clone(l.written[d.WasFile]), all...)
	}
	seen := map[int]bool{}
	for _, n := range all {
		seen[n] = true
	}
	assert.Len(t, slices.Collect(maps.Keys(seen)), l.last, "a write is lost")
}

// TestEveryStepOfALiveMove: a host that goes away at any operation makes the job wait, which goes on when it is back; where the new disk cannot be gone over to it goes
// back, likewise. No write is lost, and no image of the job is left.
func TestEveryStepOfALiveMove(t *testing.T) {
	for name, refuses := range map[string]bool{"forth": false, "back": true} {
		unhurried(t, name, func(t *testing.T) {
			for n := 0; ; n++ {
				w := newWorld()
				task, d := liveTask(t, w)
				w.quay.layers.refuses = refuses
				w.left = n
				done, err := task.Run(t.Context())
				if w.gone {
					if !refuses { // otherwise it may be on its way back
						require.ErrorIs(t, err, host.ErrGone, "operation %d", n)
					}
					w.gone, w.left = false, -1
					done, err = task.Run(t.Context())
				}
				file := d.NowFile
				if refuses {
					require.ErrorContains(t, err, "it has no room", "operation %d", n)
					file = d.WasFile
				} else {
					require.NoError(t, err, "operation %d", n)
					assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
					assert.True(t, done.Machine.CameUp)
					assert.Equal(t, 1, done.Passes)
					assert.Positive(t, done.StoppedMs)
				}
				assert.Equal(t, []string{file}, w.quay.layers.files, "operation %d", n)
				w.quay.layers.has(t, d, file)
				for _, at := range []plan.Place{d.Cover, d.Top, d.Returned} {
					_, err := task.Ends[plan.MachineSubject].Pools[at.Pool].Stat(at.Path)
					require.Error(t, err, "%s is left, operation %d", at, n)
				}
				if w.left > 0 {
					break
				}
			}
		})
	}
}

// TestALiveMoveOfWhatEnds: a machine that is off when its job goes on waits for somebody to start it, since what it wrote last lies in images on its disks; so does one
// that somebody halted, which stays so.
func TestALiveMoveOfWhatEnds(t *testing.T) {
	unhurried(t, "", func(t *testing.T) {
		w := newWorld()
		task, d := liveTask(t, w)
		w.left = 5
		_, err := task.Run(t.Context())
		require.ErrorIs(t, err, host.ErrGone)
		require.Equal(t, d.CoverAt, w.quay.layers.files[0])
		w.gone, w.left = false, -1
		for _, m := range w.quay.machines {
			m.State = host.Off
		}
		_, err = task.Run(t.Context())
		require.ErrorContains(t, err, "start it")
		for _, m := range w.quay.machines {
			m.State = host.Running
		}
		_, err = task.Run(t.Context())
		if err != nil { // it went back, since it could not go on
			require.ErrorContains(t, err, "start it")
			assert.Equal(t, []string{d.WasFile}, w.quay.layers.files)
			w.quay.layers.has(t, d, d.WasFile)
		}
	})
}

// TestLayersAreImages that the emulator is given: empty, as large as what they stand on, and named by its whole path.
func TestLayersAreImages(t *testing.T) {
	w := newWorld()
	task, d := liveTask(t, w)
	made, err := begin(step.Job{Ends: task.Ends[plan.MachineSubject], Plan: task.Plan})
	require.NoError(t, err)
	require.NoError(t, made.(*work).layer(t.Context(), d.Cover, d.Was, d.OldForm, d.WasFile))
	folder := task.Ends[plan.MachineSubject].Pools[d.Cover.Pool]
	text := make([]byte, 512)
	file, err := folder.Open(d.Cover.Path)
	require.NoError(t, err)
	_, err = file.ReadAt(text, 0)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Contains(t, string(text), d.WasFile)
	format, err := disk.Recognise(folder, d.Cover.Path)
	require.NoError(t, err)
	assert.Equal(t, "qcow2", format)
}

// runOut runs a task until it ends, with hosts that come back, and goes back where it asks.
func runOut(t *testing.T, w *world, task *job.Task) (done receipt.Receipt, err error) {
	t.Helper()
	for {
		done, err = task.Run(t.Context())
		if q, asks := step.Asked(err); asks {
			task.Answer = step.Answer{Step: q.Step, Name: answerBack}
			done, err = task.Run(t.Context())
		}
		if !w.gone {
			return done, err
		}
		w.gone, w.left = false, -1
	}
}

// onlyDisks sees that nothing of a task that moved the disk of the kiosk is left in its pools, which went away at an operation.
func onlyDisks(t *testing.T, task job.Task, operation int) {
	t.Helper()
	for pool, folder := range task.Ends[plan.MachineSubject].Pools {
		all, err := folder.List(map[string]string{"quay-store": ".", "lamp-room": "kiosk"}[pool])
		require.NoError(t, err)
		assert.Len(t, all, 1, "%s, operation %d", pool, operation)
	}
}

// TestEveryStepOfAMoveWithAShortStop: hosts that go away at any operation make the job wait, which goes on when they are back; where the machine does not come up it is
// started where it was, from its old disk alone. Never do both run, and no image of the job is left.
func TestEveryStepOfAMoveWithAShortStop(t *testing.T) {
	for name, dead := range map[string]bool{"forth": false, "back": true} {
		unhurried(t, name, func(t *testing.T) {
			first, by := fewer.Stride(t, 3)
			for n := first; ; n += by {
				w := newWorld()
				task, d := liveTo(t, w, "lighthouse", asItIs)
				w.dead = dead
				w.left = n
				done, err := runOut(t, w, &task)
				if dead {
					require.Error(t, err, "operation %d", n)
					assert.Equal(t, "quay:gate-kiosk running", w.lists(), "operation %d", n)
					assert.Equal(t, []string{d.WasFile}, w.quay.layers.files, "operation %d", n)
					w.quay.layers.has(t, d, d.WasFile)
				} else {
					require.NoError(t, err, "operation %d", n)
					assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
					assert.Equal(t, "lighthouse:gate-kiosk running", w.lists(), "operation %d", n)
					assert.Equal(t, []string{d.NowFile}, w.lighthouse.layers.files, "operation %d", n)
					assert.GreaterOrEqual(t, done.Passes, 2)
					assert.NotContains(t, strings.Join(done.Machine.Evidence, " "), "somebody has changed", "operation %d", n)
				}
				assert.Empty(t, w.twice)
				onlyDisks(t, task, n)
				if w.left > 0 {
					break
				}
			}
		})
	}
}

// TestWhatWasHandedOver has the fingerprint of the disk with all that was written in passes, though only what was is read again.
func TestWhatWasHandedOver(t *testing.T) {
	w := newWorld()
	task, d := liveTo(t, w, "lighthouse", asItIs)
	ends := task.Ends[plan.MachineSubject]
	d.Size = 5<<20 + 4096
	content := bytes.Repeat([]byte("tide"), int(d.Size)/4)
	quay, lamp := ends.Pools["quay-store"], ends.Pools["lamp-room"]
	require.NoError(t, quay.Remove(d.Was.Path))
	require.NoError(t, storage.WriteFile(quay, d.Was.Path, content))
	leavesOf := func(of []byte) *fingerprint.Leaves {
		l := fingerprint.NewLeaves(d.Size)
		for part := range slices.Chunk(of, fingerprint.LeafSize) {
			l.Append(fingerprint.Leaf(part))
		}
		return l
	}
	var text bytes.Buffer
	_, err := fingerprint.Tag{Format: "raw", Layout: "thin", Proven: true, Leaves: leavesOf(content)}.WriteTo(&text)
	require.NoError(t, err)
	require.NoError(t, storage.WriteFile(lamp, fingerprint.TagName(d.Now.Path), text.Bytes()))
	made, err := begin(step.Job{Ends: ends, Plan: task.Plan})
	require.NoError(t, err)
	x := made.(*work)
	x.m.Live, x.state.Passes = []plan.LiveDisk{d}, 2
	on, form := d.Was, "raw"
	for n, off := range []int64{70_000, 3<<20 - 100, d.Size - 8192} { // of three passes, one across two leaves
		cover, _, _ := d.Pass(n)
		base, err := disk.Open(t.Context(), quay, on.Path, form)
		require.NoError(t, err)
		image, err := x.overlay(quay, cover, on, base)
		require.NoError(t, err)
		said := bytes.Repeat([]byte{byte(n + 1)}, 5000)
		_, err = image.WriteAt(said, off)
		require.NoError(t, err)
		require.NoError(t, image.Commit(t.Context()))
		require.NoError(t, errors.Join(image.Close(), base.Close()))
		copy(content[off:], said)
		on, form = cover, "qcow2"
	}
	sum, read, of, err := x.fingerprintOf(t.Context(), d)
	require.NoError(t, err)
	want, err := leavesOf(content).Sum()
	require.NoError(t, err)
	assert.Equal(t, want, sum)
	assert.EqualValues(t, 6, of)
	assert.Less(t, read, of)
	x.state.Last, err = x.looks()
	require.NoError(t, err)
	require.NoError(t, x.handedOver(t.Context()))
	assert.Contains(t, strings.Join(x.state.Receipt.Evidence, " "), want.String())
	cover, _, _ := d.Pass(1)
	text.Reset()
	require.NoError(t, quay.Remove(cover.Path))
	require.NoError(t, storage.WriteFile(quay, cover.Path, []byte("somebody was here")))
	require.NoError(t, x.handedOver(t.Context()))
	assert.Contains(t, x.state.Receipt.Evidence[len(x.state.Receipt.Evidence)-1], "somebody has changed the old disks")
	x.state.Last, err = x.looks()
	require.NoError(t, err)
	require.NoError(t, lamp.Remove(fingerprint.TagName(d.Now.Path)))
	before := len(x.state.Receipt.Evidence)
	require.NoError(t, x.handedOver(t.Context()), "without a tag it says none")
	assert.Len(t, x.state.Receipt.Evidence, before)
}
