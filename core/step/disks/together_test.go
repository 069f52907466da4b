package disks

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ledger is a machine with three disks, which go together.
type ledger struct {
	*world
	task   job.Task
	before map[string][sha256.Size]byte
}

const ledgerDisks = 3

func newLedger(t *testing.T) *ledger {
	t.Helper()
	l := &ledger{world: &world{t: t, from: t.TempDir(), to: t.TempDir()}}
	l.ends = step.Ends{Source: l.folder(l.from), Destination: apart{l.folder(l.to)}}
	var parts []plan.Plan
	for i := range ledgerDisks {
		name := fmt.Sprintf("ledger-%d.raw", i+1)
		content := make([]byte, 2<<20)
		copy(content[1<<20:], fmt.Sprintf("page %d", i))
		require.NoError(t, os.WriteFile(filepath.Join(l.from, name), content, 0o600))
		p := l.plan(plan.Request{
			Kind: plan.Convert, As: "qcow2", Release: true,
			Source: plan.Place{Path: name}, Destination: &plan.Place{Path: fmt.Sprintf("cargo/ledger-%d.qcow2", i+1)},
		})
		require.False(t, p.Blocked())
		parts = append(parts, p)
	}
	l.task = l.job("test-1", plan.Together(plan.Request{Kind: plan.Convert}, parts...), l.ends)
	l.before = lying(t, l.from, l.to)
	return l
}

func (l *ledger) job(id string, p plan.Plan, ends step.Ends) job.Task {
	all := map[string]step.Ends{}
	for _, d := range p.Bodies {
		all[d.ID] = ends
	}
	return job.Task{ID: id, Ends: all, Plan: p, Records: &notebook{}, Hold: HoldFor, By: "job 7"}
}

// broken is the task with everything stopping behind some operations on names.
func (l *ledger) broken(task job.Task, after int) (job.Task, *stopping) {
	stop := &stopping{after: after}
	ends := step.Ends{Source: stoppingFolder{l.folder(l.from), stop}, Destination: stop.in(l.folder(l.to), false)}
	broken := l.job(task.ID, task.Plan, ends)
	broken.Records, broken.Watch = task.Records, task.Watch
	return broken, stop
}

func (l *ledger) isAsBefore(moment string, args ...any) {
	l.t.Helper()
	assert.Equal(l.t, l.before, lying(l.t, l.from, l.to), append([]any{moment}, args...)...)
	staged, err := filepath.Glob(filepath.Join(l.to, StagingFolder, "*"))
	require.NoError(l.t, err)
	assert.Empty(l.t, staged)
}

func (l *ledger) hasMoved(r receipt.Receipt, moment string, args ...any) {
	l.t.Helper()
	var names []string
	for name := range lying(l.t, l.from, l.to) {
		names = append(names, filepath.Base(name))
	}
	slices.Sort(names)
	assert.Equal(l.t, []string{
		"ledger-1.qcow2", "ledger-1.qcow2.bagtag", "ledger-2.qcow2", "ledger-2.qcow2.bagtag", "ledger-3.qcow2", "ledger-3.qcow2.bagtag",
	}, names, append([]any{moment}, args...)...)
	assert.Equal(l.t, receipt.Proven, r.Outcome)
	require.Len(l.t, r.Parts, ledgerDisks)
	for i, part := range r.Parts {
		assert.Equal(l.t, receipt.Proven, part.Outcome)
		assert.Equal(l.t, fmt.Sprintf("ledger-%d.raw", i+1), part.Source.Place.Path)
		assert.Equal(l.t, part.Source.Fingerprint, part.Destination.Fingerprint)
	}
}

// TestAllAreProvenBeforeOneGetsItsName, and all have their names before a source goes.
func TestAllAreProvenBeforeOneGetsItsName(t *testing.T) {
	l := newLedger(t)
	var kinds []string
	for _, s := range l.task.Plan.Steps {
		if len(kinds) == 0 || kinds[len(kinds)-1] != s.Kind {
			kinds = append(kinds, s.Kind)
		}
	}
	each := []string{plan.StepLook, plan.StepFill, plan.StepSecure, plan.StepProve}
	assert.Equal(t, slices.Concat(each, each, each, []string{plan.StepPublish, plan.StepRelease}), kinds)
	ids := map[string]bool{}
	for _, s := range l.task.Plan.Steps {
		assert.False(t, ids[s.ID], s.ID)
		for _, before := range s.After {
			assert.True(t, ids[before], "%s comes after %s", s.ID, before)
		}
		ids[s.ID] = true
	}
	var last step.Progress
	l.task.Watch = func(p step.Progress) { last = p }
	done, err := l.task.Run(t.Context())
	require.NoError(t, err)
	l.hasMoved(done, "at the end")
	require.Len(t, last.Disks, ledgerDisks, "each disk has a strip of its own")
	for i, d := range last.Disks {
		assert.Equal(t, fmt.Sprintf("ledger-%d.raw", i+1), d.Disk.Path)
		assert.Contains(t, d.Strip, "p", "it was read back")
		assert.NotContains(t, d.Strip, ".", "nothing is still to come")
	}
}

// TestTogetherGoesOn from wherever it was stopped, and is taken back from wherever that was stopped.
func TestTogetherGoesOn(t *testing.T) {
	t.Parallel()
	for n := 0; ; n++ {
		l := newLedger(t)
		broken, stop := l.broken(l.task, n)
		_, err := broken.Run(t.Context())
		if stop.stopped {
			require.ErrorIs(t, err, storage.ErrLost, "behind operation %d", n)
		}
		done, err := l.task.Run(t.Context())
		require.NoError(t, err, "behind operation %d", n)
		l.hasMoved(done, "behind operation %d", n)
		if !stop.stopped {
			break
		}
	}
	for n := 0; ; n++ {
		l := newLedger(t)
		_, err := l.task.Run(t.Context())
		require.NoError(t, err)
		journal, err := l.task.Records.Load(t.Context())
		require.NoError(t, err)
		b, err := json.Marshal(journal)
		require.NoError(t, err)
		ended := Ended{Job: "7", Task: l.task.ID, Plan: l.task.Plan, Journal: b, Finished: time.Now()}
		var parts []plan.Plan
		for _, d := range l.task.Plan.Bodies {
			p, err := PrepareUndo(t.Context(), l.ends, ended, d.ID, step.Known{})
			require.NoError(t, err)
			require.False(t, p.Blocked(), "%+v", p.Checks)
			parts = append(parts, p)
		}
		task := l.job("test-2", plan.Together(plan.Request{Kind: plan.Undo, Job: "7"}, parts...), l.ends)
		broken, stop := l.broken(task, n)
		_, err = broken.Run(t.Context())
		if stop.stopped {
			require.ErrorIs(t, err, storage.ErrLost, "behind operation %d of taking it back", n)
		}
		done, err := task.Run(t.Context())
		require.NoError(t, err, "behind operation %d of taking it back", n)
		assert.Equal(t, receipt.Proven, done.Outcome)
		l.isAsBefore("taken back, stopped behind operation %d", n)
		if !stop.stopped {
			break
		}
	}
}

// TestAllOrNone: where one disk cannot get its name, those that have theirs go back, also when that is interrupted; and so it is when somebody
// cancels. Behind a step that lets only forward nothing goes back.
func TestAllOrNone(t *testing.T) {
	t.Parallel()
	inTheWay := func(l *ledger, stop context.CancelCauseFunc) func(step.Progress) {
		return func(p step.Progress) {
			if p.Step == plan.StepPublish && p.Title == l.task.Plan.Steps[p.Number-1].Title && l.task.Plan.Steps[p.Number-1].ID == "disk3.publish" {
				if stop != nil {
					stop(errors.New("the operator changed their mind"))
					return
				}
				require.NoError(l.t, os.WriteFile(filepath.Join(l.to, "cargo/ledger-3.qcow2"), []byte("somebody's"), 0o600))
			}
		}
	}
	cleared := func(l *ledger) { require.NoError(l.t, os.Remove(filepath.Join(l.to, "cargo/ledger-3.qcow2"))) }

	l := newLedger(t)
	ctx, cancel := context.WithCancelCause(t.Context())
	defer cancel(nil)
	l.task.Watch = inTheWay(l, cancel)
	done, err := l.task.Run(ctx)
	require.ErrorContains(t, err, "changed their mind")
	assert.Equal(t, receipt.Cancelled, done.Outcome)
	l.isAsBefore("cancelled")

	for n := 0; ; n++ {
		l := newLedger(t)
		l.task.Watch = inTheWay(l, nil)
		broken, stop := l.broken(l.task, n)
		_, err := broken.Run(t.Context())
		require.Error(t, err, "behind operation %d", n)
		if !stop.stopped {
			require.ErrorContains(t, err, "came into being meanwhile")
			cleared(l)
			l.isAsBefore("in the way")
			break
		}
		l.task.Watch = nil
		if _, err := os.Stat(filepath.Join(l.to, "cargo/ledger-3.qcow2")); err == nil {
			b, err := os.ReadFile(filepath.Join(l.to, "cargo/ledger-3.qcow2"))
			require.NoError(t, err)
			if string(b) == "somebody's" {
				journal, err := l.task.Records.Load(t.Context())
				require.NoError(t, err)
				done, err := l.task.Run(t.Context())
				require.Error(t, err)
				assert.Equal(t, receipt.Failed, done.Outcome)
				if journal.Back != "" {
					assert.ErrorContains(t, err, "came into being meanwhile", "it says why it goes back")
				}
				cleared(l)
				l.isAsBefore("going back, stopped behind operation %d", n)
			}
		}
	}

	l = newLedger(t)
	for i, s := range l.task.Plan.Steps {
		l.task.Plan.Steps[i].Forward = s.ID == "disk2.publish"
	}
	l.task.Watch = inTheWay(l, nil)
	_, err = l.task.Run(t.Context())
	require.ErrorContains(t, err, "came into being meanwhile")
	now := lying(t, l.to)
	assert.Contains(t, slices.Collect(maps.Keys(now)), filepath.Join(l.to, "cargo/ledger-1.qcow2"), "what is behind the point stays")
	assert.Equal(t, len(l.before), len(lying(t, l.from)), "and no source goes")
}

// TestAskedWhatToDo about a source that cannot be read: nothing is lost meanwhile, and each answer is gone by.
func TestAskedWhatToDo(t *testing.T) {
	w := newWorld(t)
	book := &notebook{}
	plain := w.ends
	w.ends.Source = scratched{Folder: plain.Source, ranges: unreadable}
	p := w.plan(toQcow2())
	task := solo{ID: "test-1", Ends: w.ends, Plan: p, Records: book, Hold: HoldFor, By: "job 1", Asks: true}
	ask := func() step.Question {
		t.Helper()
		_, err := task.Run(t.Context())
		q, ok := step.Asked(err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, "disk1.fill", q.Step)
		assert.Contains(t, q.Text, "reading the source at offset")
		return q
	}
	q := ask()
	task.Answer = step.Answer{Step: q.Step, Name: answerAgain}
	ask()
	task.Answer = step.Answer{Step: "disk2.fill", Name: answerZeros}
	ask() // since that is no answer to this
	well := task
	well.Ends.Source, well.Answer = scratched{Folder: plain.Source}, step.Answer{Step: q.Step, Name: answerAgain}

	task.Answer = step.Answer{Step: q.Step, Name: answerZeros}
	done, err := task.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, receipt.Damaged, done.Outcome)
	assert.Len(t, done.Unreadable, len(unreadable))

	held := w.task(p)
	held.Records, held.Asks = nil, true
	held.Ends = task.Ends
	_, err = held.Run(t.Context())
	_, asked := step.Asked(err)
	assert.False(t, asked, "what does not outlive its process asks nobody")

	require.NoError(t, os.Remove(filepath.Join(w.to, "gate-kiosk.qcow2")))
	*book, task.Answer = notebook{}, step.Answer{}
	ask()
	done, err = well.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome, "the cable was put in again")
	assert.Positive(t, done.Resumed)
}
