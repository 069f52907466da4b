package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSinceTheLastReceipt: what somebody changes on a machine behind a job that had to do with it is told, on each kind of host, and nothing else is; also behind one
// that took such a job back.
func TestSinceTheLastReceipt(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			since := func() (all []string) {
				t.Helper()
				c, err := r.ChangesSince(t.Context(), r.host, "crew-roster")
				require.NoError(t, err)
				for _, d := range c.Items {
					all = append(all, d.What)
				}
				return all
			}
			_, err := r.ChangesSince(t.Context(), r.host, "crew-roster")
			require.ErrorContains(t, err, "a receipt of "+r.machine()+" that says what it was: not found")
			noise(t, r.folder, "more.raw", mib)
			require.NoError(t, os.Chmod(filepath.Join(r.folder, "more.raw"), 0o666))
			attach := plan.Request{Kind: plan.AttachDisk, Machine: r.machine(), Source: plan.Place{Pool: "quay-store", Path: "more.raw"}}
			job, _ := r.does(t, attach)
			assert.Empty(t, since())
			told := testkit.Run(t, r.folder, r.State, "machine", "compare", r.machine())
			require.Zero(t, told.Code, told.Notes)
			assert.Contains(t, told.Notes, "Nothing has changed.")

			h, err := r.kind.Open(t.Context(), r.address)
			require.NoError(t, err)
			defer h.Close()
			m, err := h.Machine(t.Context(), "crew-roster")
			require.NoError(t, err)
			two := strings.NewReplacer("<vcpu placement='static'>1<", "<vcpu placement='static'>2<", "count: 1", "count: 2")
			changed := two.Replace(string(m.Definition))
			require.NotEqual(t, string(m.Definition), changed)
			_, err = h.(host.Definer).Define(t.Context(), []byte(changed))
			require.NoError(t, err)
			bitAgo := time.Now().Add(-time.Hour) // set back, after somebody has written to it
			require.NoError(t, os.Chtimes(filepath.Join(r.folder, "more.raw"), bitAgo, bitAgo))
			if got := since(); r.host == "local" { // which tells when anything of a file was changed
				assert.Equal(t, []string{"processors", "disk 2, content"}, got)
			}
			later := time.Now().Add(time.Minute)
			require.NoError(t, os.Chtimes(filepath.Join(r.folder, "more.raw"), later, later))
			assert.Equal(t, []string{"processors", "disk 2, content"}, since())
			told = testkit.Run(t, r.folder, r.State, "machine", "compare", r.machine())
			require.Zero(t, told.Code, told.Notes)
			assert.Regexp(t, `(?m)^processors +1 +2$`, told.Out)
			assert.Regexp(t, `(?m)^disk 2, content +as it was then +written to, last at `, told.Out)

			r.does(t, plan.Request{Kind: plan.Undo, Job: job})
			assert.Empty(t, since(), "it is what that job left")
		})
	}
}
