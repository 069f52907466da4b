package machines

import (
	"strings"
	"testing"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestACopyIsKept: passes go on as often as somebody wants, with a bounded number of images; hosts that go away at any operation make it ask or wait, and it goes on; then the
// machine goes over, and no image of the job is left.
func TestACopyIsKept(t *testing.T) {
	const times = 12
	unhurried(t, "", func(t *testing.T) {
		for n := 0; ; n++ {
			w := newWorld()
			task, d := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.KeepEvery = 60 })
			w.left = n
			var done receipt.Receipt
			var err error
			var last step.Progress
			task.Watch = func(p step.Progress) { last = p }
			for asked, most := 0, 0; ; {
				done, err = task.Run(t.Context())
				most = max(most, len(w.quay.layers.files))
				task.Answer = step.Answer{}
				if q, asks := step.Asked(err); asks && !w.gone {
					require.False(t, q.Until.IsZero(), "it goes on by itself")
					asked++
					task.Answer = step.Answer{Step: q.Step, Name: answerAgain}
					if asked >= times {
						task.Answer.Name = answerNow
					}
				}
				if w.gone {
					w.gone, w.left = false, -1
					continue
				}
				if _, asks := step.Asked(err); !asks {
					break
				}
				require.LessOrEqual(t, most, mostLayers+3)
			}
			require.NoError(t, err, "operation %d", n)
			assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.Equal(t, "lighthouse:gate-kiosk running", w.lists(), "operation %d", n)
			assert.Equal(t, []string{d.NowFile}, w.lighthouse.layers.files, "operation %d", n)
			assert.GreaterOrEqual(t, done.Passes, times)
			assert.GreaterOrEqual(t, len(last.Passes), times, "what was left at each is drawn")
			assert.Equal(t, plan.UsualStop, last.Stop)
			assert.Empty(t, w.twice)
			for pool, folder := range task.Ends[plan.MachineSubject].Pools {
				all, err := folder.List(map[string]string{"quay-store": ".", "lamp-room": "kiosk"}[pool])
				require.NoError(t, err)
				assert.Len(t, all, 1, "%s, operation %d", pool, n)
			}
			if w.left > 0 {
				break
			}
		}
	})
}

// TestACopyWithoutItsOldHost is started as it was copied last, when somebody says so and its old host is not to be reached; that it still has the machine is said. Where the
// old host is there again, and runs it, nothing is started.
func TestACopyWithoutItsOldHost(t *testing.T) {
	for name, back := range map[string]bool{"gone": false, "back": true} {
		unhurried(t, name, func(t *testing.T) {
			w := newWorld()
			task, _ := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.KeepEvery = 60 })
			_, err := task.Run(t.Context())
			_, asks := step.Asked(err)
			require.True(t, asks, "%v", err)
			w.quay.away = true
			task.Answer = step.Answer{}
			_, err = task.Run(t.Context())
			q, asks := step.Asked(err)
			require.True(t, asks, "%v", err)
			require.Contains(t, q.Text, "quay is not to be reached")
			require.True(t, q.Has(answerWithout))
			require.True(t, q.Trouble)
			assert.Less(t, time.Until(q.Until), 2*time.Minute)
			task.Answer = step.Answer{Step: q.Step, Name: answerWithout}
			if back {
				w.quay.away = false
				_, err = task.Run(t.Context())
				_, asks = step.Asked(err)
				require.True(t, asks, "it is there again, and goes on to be kept: %v", err)
				assert.Equal(t, "quay:gate-kiosk running", w.lists())
				return
			}
			done, err := task.Run(t.Context())
			require.NoError(t, err)
			assert.Contains(t, done.Machine.Source, "was not to be reached, and still has it")
			assert.Contains(t, done.Compared, "what was written after that is not in them")
			assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "quay was not to be reached")
			assert.True(t, done.Machine.CameUp)
			w.quay.away = false
			for _, m := range w.quay.machines {
				assert.Equal(t, host.Running, m.State, "which is for people to mend")
			}
		})
	}
}

// TestTheMomentOfACopy is when its guest was had to write to newer images, however late those below are copied; until then the copy is told to be further behind.
func TestTheMomentOfACopy(t *testing.T) {
	unhurried(t, "", func(t *testing.T) {
		w := newWorld()
		task, _ := liveTo(t, w, "lighthouse", func(r *plan.Request) { r.KeepEvery = 60 })
		_, err := task.Run(t.Context())
		_, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		behind := func() Behind {
			j, err := task.Records.Load(t.Context())
			require.NoError(t, err)
			b, err := BehindOf(*j, *task.Plan.Machine, task.Ends[plan.MachineSubject].Pools)
			require.NoError(t, err)
			return b
		}
		first := behind()
		time.Sleep(time.Hour)
		w.quay.layers.cuts = true
		covered := time.Now()
		_, err = task.Run(t.Context())
		require.ErrorIs(t, err, host.ErrGone)
		assert.Equal(t, first.Of, behind().Of, "it is not copied yet")
		assert.Greater(t, behind().Bytes, first.Bytes, "two images are not")
		time.Sleep(time.Hour)
		_, err = task.Run(t.Context())
		q, asks := step.Asked(err)
		require.True(t, asks, "%v", err)
		assert.False(t, q.Trouble)
		assert.WithinDuration(t, covered, behind().Of, time.Minute, "and not when it went on")
		for _, m := range w.quay.machines {
			m.State = host.Off
		}
		_, err = task.Run(t.Context())
		q, asks = step.Asked(err)
		require.True(t, asks, "%v", err)
		assert.True(t, q.Trouble, "what it wrote last is not copied")
	})
}
