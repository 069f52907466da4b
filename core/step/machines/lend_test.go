package machines

import (
	"context"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lends notes what is lent.
type lends struct{ now map[string]int }

func (l *lends) Lend(_ context.Context, id, _ string, disks []step.Loan) (map[string]host.Export, error) {
	l.now = map[string]int{id: len(disks)}
	out := map[string]host.Export{}
	for _, d := range disks {
		out[d.Slot] = host.Export{Address: "127.0.0.1:10809", Name: id}
	}
	return out, nil
}

func (l *lends) Return(_ context.Context, id string) error {
	delete(l.now, id)
	return nil
}

// TestEveryStepOfStartingFirst: hosts that go away at any operation make the job wait, which goes on when they are back; where the machine does not come up it is started where
// it was, from its old disk. One that could not read its disks for a while is started once more. Never do both run, nothing is lent any more, and no image of the job is left.
func TestEveryStepOfStartingFirst(t *testing.T) {
	for _, name := range []string{"forth", "back", "anew"} {
		dead := name == "back"
		unhurried(t, name, func(t *testing.T) {
			first, by := fewer.Stride(t, 3)
			for n := first; ; n += by {
				w := newWorld()
				task, d := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.Live, r.StartFirst, r.Stop = false, true, true })
				ends := task.Ends[plan.MachineSubject]
				w.lighthouse.layers.files = nil // which come when the machine is made known
				w.dead, w.faint, w.left = dead, name == "anew", n
				done, err := runOut(t, w, &task)
				if dead {
					require.Error(t, err, "operation %d", n)
					assert.Equal(t, "quay:gate-kiosk running", w.lists(), "operation %d", n)
				} else {
					require.NoError(t, err, "operation %d", n)
					assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
					assert.Equal(t, "lighthouse:gate-kiosk running", w.lists(), "operation %d", n)
					assert.Equal(t, []string{d.NowFile}, w.lighthouse.layers.files, "operation %d", n)
				}
				assert.Empty(t, w.twice)
				assert.Empty(t, ends.Lender.(*lends).now, "operation %d", n)
				onlyDisks(t, task, n)
				if w.left > 0 {
					break
				}
			}
		})
	}
}
