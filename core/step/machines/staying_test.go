package machines

import (
	"fmt"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/job"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stays is the plan for the kiosk of the quay, which stays there, and a task for it.
func stays(t *testing.T, w *world, r plan.Request) job.Task {
	t.Helper()
	m := *w.quay.machines["0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1"]
	is, err := machine.Describe(m.Format, m.Definition)
	require.NoError(t, err)
	r.Machine = "quay:gate-kiosk"
	require.NoError(t, r.Validate())
	p := plan.ForStaying(r, plan.StayingFacts{
		Name: m.Name, State: m.State, Format: m.Format, Text: m.Definition, Is: is, Kept: w.quay.kept,
		Image: disk.Description{Format: "raw", Layout: "thick"}, File: "/quay/more.raw", Host: "quay",
	})
	require.False(t, p.Blocked(), "%+v", p.Checks)
	return job.Task{
		ID: "test-1", Ends: map[string]step.Ends{plan.MachineSubject: {From: w.quay, To: w.quay}}, Plan: p, Records: &notes{}, Asks: true,
	}
}

// tells says in a line what the quay has of its machine.
func (w *world) tells(t *testing.T) string {
	t.Helper()
	var all []string
	for _, s := range w.quay.kept {
		name := s.Name
		if s.Present {
			name += "*"
		}
		all = append(all, name)
	}
	for _, m := range w.quay.machines {
		is, err := machine.Describe(m.Format, m.Definition)
		require.NoError(t, err)
		for _, d := range is.Disks {
			all = append(all, d.Slot)
		}
	}
	return strings.Join(all, " ")
}

// TestEveryStepOfAMachineThatStays: a host that goes away at any operation makes the job wait, which goes on when it is back, and does nothing twice.
func TestEveryStepOfAMachineThatStays(t *testing.T) {
	for _, c := range []struct {
		request plan.Request
		end     string
		outcome receipt.Outcome
	}{
		{plan.Request{Kind: plan.TakeSnapshot, Snapshot: "second"}, "first second* vda", receipt.Unproven},
		{plan.Request{Kind: plan.GoBack, Snapshot: "first"}, "first* vda", receipt.Unproven},
		{plan.Request{Kind: plan.GoBack, Snapshot: "first", KeepPresent: "now"}, "first* now vda", receipt.Unproven},
		{plan.Request{Kind: plan.DropSnapshot, Snapshot: "first"}, "vda", receipt.Unproven},
		{
			plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "more.raw"}},
			"first* vda vdb", receipt.Proven,
		},
		{plan.Request{Kind: plan.DetachDisk, Slot: "vda"}, "first*", receipt.Proven},
	} {
		unhurried(t, fmt.Sprintf("%s %s", c.request.Kind, c.request.KeepPresent), func(t *testing.T) {
			for n := 0; ; n++ {
				w := newWorld()
				w.quay.has(t, kiosk, host.Off)
				w.quay.kept = []host.Snapshot{{Name: "first", Present: true}}
				task := stays(t, w, c.request)
				w.left = n
				done, err := task.Run(t.Context())
				if w.gone {
					require.ErrorIs(t, err, host.ErrGone, "operation %d", n)
					require.True(t, step.CanWait(err))
					w.gone, w.left = false, -1
					done, err = task.Run(t.Context())
				}
				require.NoError(t, err, "operation %d", n)
				assert.Equal(t, c.outcome, done.Outcome, done.Reason)
				assert.NotEmpty(t, done.Machine.Evidence)
				assert.Equal(t, c.end, w.tells(t), "operation %d", n)
				if w.left > 0 {
					break
				}
			}
		})
	}
}

// TestWhatStandsInTheWayOfOneThatStays: a snapshot of the name that somebody took meanwhile, one that is gone, and a disk that another machine has by now.
func TestWhatStandsInTheWayOfOneThatStays(t *testing.T) {
	for name, c := range map[string]struct {
		request plan.Request
		do      func(*world)
		want    string
	}{
		"name": {
			plan.Request{Kind: plan.TakeSnapshot, Snapshot: "second"},
			func(w *world) { w.quay.kept = append(w.quay.kept, host.Snapshot{Name: "second"}) }, "has come to have a snapshot second",
		},
		"gone": {
			plan.Request{Kind: plan.GoBack, Snapshot: "first"}, func(w *world) { w.quay.kept = nil }, "no snapshot first any more",
		},
		"taken": {
			plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "more.raw"}},
			func(w *world) {
				w.quay.has(t, strings.ReplaceAll(other(kiosk, "trial"), "/quay/kiosk.raw", "/quay/more.raw"), host.Off)
			},
			"trial has come to have the disk /quay/more.raw",
		},
	} {
		unhurried(t, name, func(t *testing.T) {
			w := newWorld()
			w.quay.has(t, kiosk, host.Off)
			w.quay.kept = []host.Snapshot{{Name: "first", Present: true}}
			task := stays(t, w, c.request)
			c.do(w)
			_, err := task.Run(t.Context())
			require.ErrorContains(t, err, c.want)
		})
	}
}
