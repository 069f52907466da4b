package all

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMemory: what a guest that counts has in memory is written to a file, and it goes on counting from there, from its disk in another place, as if nothing had been.
func TestMemory(t *testing.T) {
	for kind, start := range counting {
		t.Run(kind, func(t *testing.T) {
			w, content, counted := start(t)
			ctx := t.Context()
			at := func(name string) string { return filepath.Join(w.folder, name) }
			require.NoError(t, os.WriteFile(at("ticketing.raw"), content, 0o666))
			require.NoError(t, os.Chmod(at("ticketing.raw"), 0o666))
			m, err := w.Host.(host.Definer).Define(ctx, w.define("ticketing", at("ticketing.raw"), "raw"))
			require.NoError(t, err)
			saves, power := w.Host.(host.Saver), w.Host.(host.Power)
			require.ErrorIs(t, saves.Save(ctx, m, at("memory")), host.ErrRefused, "it is off, and nothing of it is there")
			require.NoError(t, power.Start(ctx, m))
			writes := func() { t.Helper(); w.writes(t, m) }
			writes()
			for range 2 {
				require.NoError(t, saves.Save(ctx, m, at("memory")))
				now, err := w.Machine(ctx, "ticketing")
				require.NoError(t, err)
				assert.Equal(t, host.Off, now.State)
			}
			then := contentOf(t, at("ticketing.raw"), "raw")
			image(t, w.folder, "new.qcow2", "qcow2", then)
			require.NoError(t, os.Chmod(at("new.qcow2"), 0o666))
			is, err := machine.Describe(m.Format, m.Definition)
			require.NoError(t, err)
			is.Disks[0].File, is.Disks[0].Format = at("new.qcow2"), "qcow2"
			text, err := machine.Become(m.Definition, m.Format, m.Format, is)
			require.NoError(t, err)
			m, err = w.Host.(host.Definer).Define(ctx, text)
			require.NoError(t, err)
			require.ErrorIs(t, saves.Restore(ctx, m, at("nothing"), is), host.ErrRefused)
			require.NoError(t, saves.Restore(ctx, m, at("memory"), is))
			require.ErrorIs(t, saves.Restore(ctx, m, at("memory"), is), host.ErrRefused, "it runs")
			writes()
			require.NoError(t, power.CutOff(ctx, m))
			before, after := counted(then), counted(contentOf(t, at("new.qcow2"), "qcow2"))
			assert.Greater(t, after, before)
			assert.Less(t, after, before+100_000, "it has not begun anew")
			assert.Equal(t, then, contentOf(t, at("ticketing.raw"), "raw"), "nothing is written to the old one")
		})
	}
}
