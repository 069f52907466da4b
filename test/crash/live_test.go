package crash

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALiveMoveIsKilled: the service that moves the disk of a guest which counts all the while is killed around what its host does; after the restart the move ends as
// proven, the guest runs from the new disk and has every number, and nothing is left over.
func TestALiveMoveIsKilled(t *testing.T) {
	kills := []string{"cover after:1", "mirror before:1", "mirror after:1", "merge after:1"}
	if os.Getenv("BAGAGLIO_KILLS") != "" {
		kills = append(
			kills,
			"cover before:1",
			"checkpoint fill cover after:1",
			"checkpoint prove cover after:1",
			"rename after:1",
			"merge before:1",
			"remove after:1",
		)
	}
	for _, at := range kills {
		t.Run(at, func(t *testing.T) {
			d := daemon.Start(t)
			state := filepath.Join(t.TempDir(), "state")
			s := testkit.Start(t, state)
			runs := "libvirt"
			_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
			require.NoError(t, err)
			inside := func(name string) string { return filepath.Join(d.Dir, name) }
			for _, name := range []string{"lamp-room", "gallery"} {
				require.NoError(t, os.MkdirAll(inside(name), 0o777))
				require.NoError(t, os.Chmod(inside(name), 0o777))
				_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Folder: inside(name)})
				require.NoError(t, err)
				_, err = s.ChangePool(t.Context(), name, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}})
				require.NoError(t, err)
			}
			s.Stop()
			kind, err := host.Lookup("libvirt")
			require.NoError(t, err)
			h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
			require.NoError(t, err)
			defer h.Close()
			m, err := h.(host.Definer).Define(
				t.Context(),
				[]byte(daemon.Definition("ticketing", d.Disk(t, "lamp-room/ticketing.raw", daemon.Counts(4*mib)))),
			)
			require.NoError(t, err)
			require.NoError(t, h.(host.Power).Start(t.Context(), m))
			writes := func() {
				begun, err := h.(host.Observer).Signs(t.Context(), m)
				require.NoError(t, err)
				require.Eventually(t, func() bool {
					now, err := h.(host.Observer).Signs(t.Context(), m)
					return err == nil && now.Written >= begun.Written+20*512
				}, time.Minute, 10*time.Millisecond)
			}
			writes()
			r := plan.Request{
				Kind: plan.MoveMachine, Machine: "local:ticketing", To: "local", Destination: &plan.Place{Pool: "gallery"}, As: "qcow2", Live: true,
			}
			run := func(killAt string) api.JobOutcome {
				s := testkit.StartBinary(t, testkit.Torture(t), []string{"BAGAGLIO_KILL_AT=" + killAt}, state, "--checkpoint", "15ms")
				defer s.Kill()
				return outcome(t, s, r)
			}
			require.Empty(t, run(at), "it is killed")
			writes()
			require.Equal(t, "proven", string(run("")))
			writes()
			files, err := h.(host.Layerer).Layers(t.Context(), m, "hda")
			require.NoError(t, err)
			assert.Equal(t, []string{inside("gallery/ticketing/ticketing.qcow2")}, files)
			left, err := filepath.Glob(inside("gallery/ticketing/*-*"))
			require.NoError(t, err)
			assert.Empty(t, left)
			assert.NoFileExists(t, inside("lamp-room/ticketing.raw"))
			require.NoError(t, h.(host.Power).CutOff(t.Context(), m))
			assert.Greater(t, daemon.Counted(t, contentOf(t, inside("gallery/ticketing/ticketing.qcow2"))), uint32(60))
		})
	}
}

// contentOf is what a disk has.
func contentOf(t *testing.T, file string) []byte {
	t.Helper()
	folder, err := local.Open(filepath.Dir(file))
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, filepath.Base(file), "qcow2")
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, r.Size())
	_, err = r.ReadAt(b, 0)
	require.NoError(t, err)
	return b
}
