package disks

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatComesAtAnyMomentStopsIt: a disk that comes to stand on the source is seen before anything is written, before the image gets its
// name, and before the source goes; then the task goes on, and each time that it was stopped, source and copy are what they should be.
func TestWhatComesAtAnyMomentStopsIt(t *testing.T) {
	for moment, placed := range []bool{false, false, true} {
		w := newWorld(t)
		w.records = &notebook{}
		request := toQcow2()
		request.Release = true
		task := w.task(w.plan(request))
		asked := 0
		task.Known = func(context.Context) (step.Known, error) {
			asked++
			return step.Known{Standing: func(context.Context, []string) ([]string, error) {
				if asked == moment+1 {
					return []string{"top.qcow2"}, nil
				}
				return nil, nil
			}}, nil
		}
		_, err := task.Run(t.Context())
		var blocked *step.BlockedError
		require.ErrorAs(t, err, &blocked, "moment %d", moment)
		require.ErrorIs(t, err, step.ErrBlocked)
		assert.False(t, blocked.Passes())
		assert.Equal(t, moment+1, asked)
		assert.FileExists(t, filepath.Join(w.from, "gate-kiosk.raw"))
		_, err = os.Stat(filepath.Join(w.to, "gate-kiosk.qcow2"))
		assert.Equal(t, placed, err == nil)
		is, err := task.task().Placed(t.Context())
		require.NoError(t, err)
		assert.Equal(t, placed, is)
		r, err := task.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, receipt.Proven, r.Outcome)
		assert.NoFileExists(t, filepath.Join(w.from, "gate-kiosk.raw"))
		assert.FileExists(t, filepath.Join(w.to, "gate-kiosk.qcow2"))
	}
}
