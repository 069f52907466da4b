package all

import (
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestStatesOfDisks: while a guest counts, states of its disks are kept as images below those that it goes on from. Each has what there was then; they are
// gone back to, and dropped from either end, on and off, and nothing that was written is missing.
func TestStatesOfDisks(t *testing.T) {
	w := worlds["libvirt"](t)
	ctx := t.Context()
	at := func(name string) string { return filepath.Join(w.folder, name) }
	require.NoError(t, os.WriteFile(at("tides.raw"), daemon.Counts(2<<20), 0o666))
	require.NoError(t, os.Chmod(at("tides.raw"), 0o666))
	m, err := w.Host.(host.Definer).Define(ctx, w.define("tide-board", at("tides.raw"), "raw"))
	require.NoError(t, err)
	keeps, power, layers := w.Host.(host.Snapshotter), w.Host.(host.Power), w.Host.(host.Layerer)
	disks := host.Taking{Name: "first", Notes: "before the season", Disks: true}
	require.NoError(t, power.Start(ctx, m))
	writes := func() { t.Helper(); w.writes(t, m) }
	names := func() (all []string) {
		kept, err := keeps.Snapshots(ctx, m)
		require.NoError(t, err)
		for _, k := range kept {
			is := k.Name + " behind " + k.Parent
			if k.Present {
				is += ", present"
			}
			all = append(all, is)
		}
		return all
	}
	content := func(name string) []byte { // what a state has
		t.Helper()
		kept, err := keeps.Snapshots(ctx, m)
		require.NoError(t, err)
		for _, k := range kept {
			if k.Name == name {
				then, err := machine.Describe(m.Format, k.Definition)
				require.NoError(t, err)
				return contentOf(t, k.Files[then.Disks[0].File], then.Disks[0].Format)
			}
		}
		require.Fail(t, name)
		return nil
	}
	counted := func(name string) uint32 { return daemon.Counted(t, content(name)) }
	stored := func() machine.Disk {
		now, err := w.Machine(ctx, m.Name)
		require.NoError(t, err)
		is, err := machine.Describe(now.Format, now.Definition)
		require.NoError(t, err)
		return is.Disks[0]
	}
	writes()
	require.ErrorIs(t, keeps.Take(ctx, m, host.Taking{Name: "quiet", Disks: true, AtRest: true}), host.ErrRefused, "it has no agent")
	require.NoError(t, keeps.Take(ctx, m, disks))
	require.ErrorIs(t, keeps.Take(ctx, m, disks), host.ErrRefused, "there is one of that name")
	writes()
	require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "second", Disks: true}))
	writes()
	require.NoError(t, power.CutOff(ctx, m))
	require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "third"}), "one that is off")
	now, err := w.Machine(ctx, m.Name)
	require.NoError(t, err)
	assert.Equal(t, host.Off, now.State)
	assert.Equal(t, []string{"first behind ", "second behind first", "third behind second, present"}, names())
	first, second, third := counted("first"), counted("second"), counted("third")
	assert.Less(t, first, second)
	assert.Less(t, second, third)

	require.NoError(t, keeps.Drop(ctx, m, "second"), "from the middle, of one that is off")
	assert.Equal(t, []string{"first behind ", "third behind first, present"}, names())
	assert.Equal(t, []uint32{first, third}, []uint32{counted("first"), counted("third")}, "the others stay as they are")
	require.NoError(t, power.Start(ctx, m))
	writes()
	require.NoError(t, keeps.Drop(ctx, m, "first"), "from the bottom, of one that runs")
	assert.Equal(t, []string{"third behind , present"}, names())
	assert.Equal(t, third, counted("third"))
	files, err := layers.Layers(ctx, m, "hda")
	require.NoError(t, err)
	assert.Len(t, files, 2)

	require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "fourth", Disks: true}))
	fourth := crc32.ChecksumIEEE(content("fourth")) // its guest has begun to count anew
	require.NoError(t, keeps.GoBack(ctx, m, "third"))
	assert.Equal(t, []string{"third behind , present", "fourth behind third"}, names())
	assert.Equal(t, third, daemon.Counted(t, contentOf(t, stored().File, stored().Format)), "it is as it was then")
	assert.Equal(t, fourth, crc32.ChecksumIEEE(content("fourth")), "and the other one too")
	require.ErrorIs(t, keeps.Drop(ctx, m, "third"), host.ErrRefused, "fourth stands on it, and so does what it goes on from")
	require.NoError(t, keeps.GoBack(ctx, m, "fourth"))
	assert.Equal(t, fourth, crc32.ChecksumIEEE(contentOf(t, stored().File, stored().Format)))
	require.NoError(t, power.Start(ctx, m))
	writes()
	for _, name := range []string{"third", "fourth"} {
		require.NoError(t, keeps.Drop(ctx, m, name))
	}
	assert.Empty(t, names())
	writes()
	require.NoError(t, power.CutOff(ctx, m))
	assert.Equal(t, at("tides.raw"), stored().File)
	assert.Equal(t, "raw", stored().Format)
	require.NoError(t, power.Start(ctx, m), "and it starts")
	require.NoError(t, power.CutOff(ctx, m))
}
