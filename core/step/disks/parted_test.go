package disks

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWrittenBehindTheProof: a source that is written to, or becomes another file, when its copy is proven already does not go away, nor does a
// machine go on with the copy; also where the job goes on in another process.
func TestWrittenBehindTheProof(t *testing.T) {
	for _, r := range rounds() {
		moves := r.request.Release && !r.same
		if !moves && !r.machine {
			continue
		}
		for how, write := range map[string]func(string, []byte) error{
			"written": func(file string, b []byte) error { return os.WriteFile(file, b, 0o600) },
			"swapped, with its time": func(file string, b []byte) error {
				info, err := os.Stat(file)
				require.NoError(t, err)
				require.NoError(t, os.Remove(file))
				require.NoError(t, os.WriteFile(file, b, 0o600))
				return os.Chtimes(file, time.Now(), info.ModTime())
			},
		} {
			t.Run(r.name+", "+how, func(t *testing.T) {
				x := r.begin(t)
				source := filepath.Join(x.from, "gate-kiosk.raw")
				b, err := os.ReadFile(source)
				require.NoError(t, err)
				b[0] ^= 1
				done := false
				x.task.Watch = func(p step.Progress) { // it is proven, and gets its names
					if p.Step == plan.StepPublish && !done {
						done = true
						require.NoError(t, write(source, b))
					}
				}
				out, err := x.task.Run(t.Context())
				require.ErrorIs(t, err, errWritten)
				assert.Equal(t, receipt.Failed, out.Outcome)
				now, err := os.ReadFile(source)
				require.NoError(t, err, "it stays")
				assert.Equal(t, b, now)
				x.task.Watch = nil
				_, err = x.task.Run(t.Context())
				require.ErrorIs(t, err, errWritten, "whoever goes on knows it too")
				assert.FileExists(t, source)
			})
		}
	}
}
