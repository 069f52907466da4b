package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Save writes the name of the machine to a file.
func (f *fake) Save(_ context.Context, m host.Machine, file string) error {
	return f.op(func() error {
		x := f.machines[m.UUID]
		name := strings.TrimPrefix(file, f.layers.at)
		if x.State == host.Off {
			if _, err := f.layers.memory.Stat(name); err != nil {
				return fmt.Errorf("%w: %w", host.ErrRefused, err)
			}
			return nil
		}
		x.State = host.Off
		return storage.WriteFile(f.layers.memory, name, bytes.Repeat([]byte(m.UUID), 100))
	})
}

// Restore has it go on from there.
func (f *fake) Restore(_ context.Context, m host.Machine, file string, _ machine.Machine) error {
	return f.op(func() error {
		x := f.machines[m.UUID]
		if _, err := f.layers.memory.Stat(strings.TrimPrefix(file, f.layers.at)); err != nil || x.State != host.Off || f.layers.forgets {
			return fmt.Errorf("%w: it does not go on from that", host.ErrRefused)
		}
		x.State = host.Running
		f.world.recalled = append(f.world.recalled, file)
		return nil
	})
}

// TestEveryStepOfAMoveWithMemory: hosts that go away at any operation make the job wait, which goes on when they are back; where its new host cannot
// read what it had in memory, it goes on where it was, from that too. From no file does it go on twice, and it is never started anew, but where it cannot be known
// whether it went on already.
func TestEveryStepOfAMoveWithMemory(t *testing.T) {
	for _, name := range []string{"forth", "not there"} {
		unhurried(t, name, func(t *testing.T) {
			for n := 0; ; n++ {
				w := newWorld()
				task, d := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.WithMemory = true })
				require.NotNil(t, task.Plan.Machine.Memory)
				w.lighthouse.layers.forgets, w.left = name == "not there", n
				done, err := runOut(t, w, &task)
				files := map[string]int{}
				for _, file := range w.recalled {
					files[file]++
					assert.Equal(t, 1, files[file], "operation %d", n)
				}
				there, evidence := "lighthouse:gate-kiosk running", ""
				if done.Machine != nil {
					evidence = strings.Join(done.Machine.Evidence, "; ")
				}
				if err != nil {
					there = "quay:gate-kiosk running"
					assert.Equal(t, []string{d.WasFile}, w.quay.layers.files, "operation %d", n)
					w.quay.layers.has(t, d, d.WasFile)
				} else {
					assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
					assert.Contains(t, evidence, "it went on from what it had in memory")
				}
				assert.Equal(t, there, w.lists(), "operation %d", n)
				if name != "forth" {
					require.Error(t, err, "operation %d", n)
				} else if err != nil {
					require.ErrorContains(t, err, "may have gone on from there already", "operation %d", n)
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

// TestMemoryOfAnEarlierTime: what a machine had in memory is not gone on from when somebody has started it since, and shut it down again.
func TestMemoryOfAnEarlierTime(t *testing.T) {
	w := newWorld()
	task, d := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.WithMemory = true })
	made, err := begin(step.Job{Ends: task.Ends[plan.MachineSubject], Plan: task.Plan, Log: &step.Log{}})
	require.NoError(t, err)
	x := made.(*work)
	pool := x.Ends.Pools[d.Cover.Pool]
	require.NoError(t, storage.WriteFile(pool, d.Cover.Path, []byte("as it was suspended")))
	m, err := x.source(t.Context())
	require.NoError(t, err)
	require.NoError(t, x.save(t.Context(), m))
	fits, err := x.fits()
	require.NoError(t, err)
	assert.True(t, fits)
	require.NoError(t, x.carryMemory(t.Context()))
	require.NoError(t, pool.Remove(d.Cover.Path))
	require.NoError(t, storage.WriteFile(pool, d.Cover.Path, []byte("and somebody wrote to it since")))
	fits, err = x.fits()
	require.NoError(t, err)
	assert.False(t, fits)
	require.NoError(t, x.carryMemory(t.Context()))
	assert.Contains(t, strings.Join(x.state.Receipt.Evidence, " "), "does not fit to its disks any more")
	require.NoError(t, x.onAgain(t.Context()))
	assert.Equal(t, "quay:gate-kiosk running", w.lists())
	assert.Empty(t, w.recalled, "it is started anew")
}

// TestMemoryThatWasNotUsed: a machine that somebody else started in its new place did not go on from its memory, and that is not said.
func TestMemoryThatWasNotUsed(t *testing.T) {
	w := newWorld()
	task, _ := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.WithMemory = true })
	made, err := begin(step.Job{Ends: task.Ends[plan.MachineSubject], Plan: task.Plan, Log: &step.Log{}})
	require.NoError(t, err)
	x := made.(*work)
	x.state.Saved = true
	at := x.m.Memory.Now
	require.NoError(t, storage.WriteFile(x.Ends.Pools[at.Pool], at.Path, []byte("memory")))
	require.NoError(t, x.tellMemory())
	assert.Contains(t, x.state.Receipt.Evidence[0], "somebody had started")
	require.NoError(t, x.Ends.Pools[at.Pool].Remove(at.Path))
	require.NoError(t, x.tellMemory())
	assert.Equal(t, "it went on from what it had in memory", x.state.Receipt.Evidence[1])
}

// TestMemoryIsCompared: what is copied of a memory is read back, and told from anything else.
func TestMemoryIsCompared(t *testing.T) {
	content := bytes.Repeat([]byte("the tides of tomorrow "), 1<<19)
	pools := map[string]storage.Folder{"quay-store": &memory.Folder{}, "lamp-room": &memory.Folder{}}
	w := &work{Job: step.Job{Ends: step.Ends{Pools: pools}}, m: plan.Machine{
		Memory: &plan.MemoryFile{Was: plan.Place{Pool: "quay-store", Path: "a.memory"}, Now: plan.Place{Pool: "lamp-room", Path: "a.memory"}},
		Live:   []plan.LiveDisk{{Now: plan.Place{Pool: "lamp-room", Path: "a.raw"}}},
	}}
	w.m.Live[0].Cover = plan.Place{Pool: "quay-store", Path: "a-meanwhile.qcow2"}
	require.NoError(t, storage.WriteFile(pools["quay-store"], "a-meanwhile.qcow2", nil))
	require.NoError(t, storage.WriteFile(pools["quay-store"], "a.memory", content))
	require.NoError(t, storage.WriteFile(pools["lamp-room"], "a.raw", nil))
	var err error
	w.state.Saved = true
	w.state.SavedWith, _, err = w.lookAt(w.written())
	require.NoError(t, err)
	for range 2 {
		require.NoError(t, w.carryMemory(t.Context()))
		file, err := pools["lamp-room"].Open("a.memory")
		require.NoError(t, err)
		there := make([]byte, len(content))
		require.NoError(t, errors.Join(disk.ReadFull(file, there, 0), file.Close()))
		assert.True(t, bytes.Equal(content, there))
	}
	pools["lamp-room"] = altering{pools["lamp-room"]}
	require.ErrorIs(t, w.carryMemory(t.Context()), step.ErrNotProven)
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, w.carryMemory(cancelled), context.Canceled)
}

// altering is a folder that stores something else than what is written.
type altering struct{ storage.Folder }

func (a altering) Create(name string) (storage.File, error) {
	f, err := a.Folder.Create(name)
	return alteringFile{f}, err
}

type alteringFile struct{ storage.File }

func (a alteringFile) WriteAt(b []byte, off int64) (int, error) {
	b = bytes.Clone(b)
	b[len(b)/2] ^= 1
	return a.File.WriteAt(b, off)
}
