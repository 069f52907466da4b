package crash

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALiveMoveIsKilled: the service that moves the disk of a guest which counts all the while is killed around what its host does; after the restart the move ends as
// proven, the guest runs from the new disk and has every number, and nothing is left over.
func TestALiveMoveIsKilled(t *testing.T) {
	kills := []string{"mirror after:1"}
	if os.Getenv("BAGAGLIO_KILLS") != "" {
		kills = append(
			kills,
			"cover after:1",
			"mirror before:1",
			"merge after:1",
			"cover before:1",
			"sync after:1",
			"sync after:3",
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

// TestAMoveWithAShortStopIsKilled: the service that moves a guest which counts all the while to another host is killed around what both hosts do; after the restart the
// move ends as proven, the guest runs in its new place alone, from the new disk, and has every number.
func TestAMoveWithAShortStopIsKilled(t *testing.T) {
	kills := []string{"start after:1"}
	if os.Getenv("BAGAGLIO_KILLS") != "" {
		kills = append(
			kills,
			"cover before:2",
			"cover after:2",
			"shut down after:1",
			"define before:1",
			"define after:1",
			"start before:1",
			"merge before:1",
			"merge after:1",
			"forget machine after:1",
		)
	}
	for _, at := range kills {
		t.Run(at, func(t *testing.T) {
			here, there, server := daemon.Start(t), daemon.Start(t), sshd.Start(t)
			state := filepath.Join(t.TempDir(), "state")
			s := testkit.Start(t, state)
			runs, key, agent, on := "libvirt", string(server.Key), false, "lighthouse"
			_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &here.Socket})
			require.NoError(t, err)
			_, err = s.AddHost(t.Context(), api.NewHost{
				Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
				Login: &api.Secrets{Key: &key, Agent: &agent},
			})
			require.NoError(t, err)
			_, err = s.ChangeHost(t.Context(), on, api.HostChange{Runs: &runs, Socket: &there.Socket})
			require.NoError(t, err)
			_, err = s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: here.Dir})
			require.NoError(t, err)
			_, err = s.AddPool(t.Context(), api.NewPool{Name: "lamp-room", Host: &on, Folder: there.Dir})
			require.NoError(t, err)
			_, err = s.ChangePool(t.Context(), "lamp-room", api.PoolChange{Rules: plan.Rules{Owner: there.Owner, Mode: "0660"}})
			require.NoError(t, err)
			s.Stop()
			file := here.Disk(t, "ticketing.raw", daemon.Counts(4*mib))
			uid, gid, _ := strings.Cut(here.Owner, ":")
			require.NoError(t, exec.CommandContext(t.Context(), "chown", uid+":"+gid, file).Run())
			kind, err := host.Lookup("libvirt")
			require.NoError(t, err)
			h, err := kind.Open(t.Context(), host.Address{Socket: here.Socket, Dial: daemon.Dial})
			require.NoError(t, err)
			defer h.Close()
			m, err := h.(host.Definer).Define(t.Context(), []byte(daemon.Definition("ticketing", file)))
			require.NoError(t, err)
			require.NoError(t, h.(host.Power).Start(t.Context(), m))
			here.Loaded(t, "ticketing")
			r := plan.Request{
				Kind: plan.MoveMachine, Machine: "local:ticketing", To: on, Destination: &plan.Place{Pool: "lamp-room"}, As: "raw", Live: true,
			}
			run := func(killAt string) api.JobOutcome {
				s := testkit.StartBinary(t, testkit.Torture(t), []string{"BAGAGLIO_KILL_AT=" + killAt}, state, "--checkpoint", "15ms")
				defer s.Kill()
				return outcome(t, s, r)
			}
			require.Empty(t, run(at), "it is killed")
			require.Equal(t, "proven", string(run("")))
			_, err = h.Machine(t.Context(), "ticketing")
			require.ErrorIs(t, err, host.ErrNoMachine)
			l, err := kind.Open(t.Context(), host.Address{Socket: there.Socket, Dial: daemon.Dial})
			require.NoError(t, err)
			defer l.Close()
			m, err = l.Machine(t.Context(), "ticketing")
			require.NoError(t, err)
			assert.Equal(t, host.Running, m.State)
			files, err := l.(host.Layerer).Layers(t.Context(), m, "hda")
			require.NoError(t, err)
			image := filepath.Join(there.Dir, "ticketing/ticketing.raw")
			assert.Equal(t, []string{image}, files)
			for _, dir := range []string{here.Dir, filepath.Dir(image)} {
				left, err := filepath.Glob(filepath.Join(dir, "*-*"))
				require.NoError(t, err)
				assert.Empty(t, left)
			}
			require.NoError(t, l.(host.Power).CutOff(t.Context(), m))
			content, err := os.ReadFile(image)
			require.NoError(t, err)
			assert.Greater(t, daemon.Counted(t, content), uint32(60))
		})
	}
}

// TestATrialIsKilled: the service that tries out a machine which runs is killed once its guest writes to other images; at its next start the guest goes on from its own
// disk, and has lost nothing.
func TestATrialIsKilled(t *testing.T) {
	d := daemon.Start(t)
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	runs := "libvirt"
	_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "lamp-room", Folder: d.Dir})
	require.NoError(t, err)
	s.Stop()
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	defer h.Close()
	file := d.Disk(t, "ticketing.raw", daemon.Counts(2*mib))
	require.NoError(t, exec.CommandContext(t.Context(), "chown", d.Owner, file).Run())
	m, err := h.(host.Definer).Define(t.Context(), []byte(daemon.Definition("ticketing", file)))
	require.NoError(t, err)
	require.NoError(t, h.(host.Power).Start(t.Context(), m))
	d.Loaded(t, "ticketing")
	killed := testkit.StartBinary(t, testkit.Torture(t), []string{"BAGAGLIO_KILL_AT=cover after:1"}, state)
	machine := "local:ticketing"
	_, err = killed.TryMachine(t.Context(), "local", api.NewTrial{Machine: &machine})
	require.Error(t, err, "it is killed")
	killed.Kill()
	files, err := h.(host.Layerer).Layers(t.Context(), m, "hda")
	require.NoError(t, err)
	require.Len(t, files, 2)
	testkit.Start(t, state)
	require.Eventually(t, func() bool {
		files, err := h.(host.Layerer).Layers(t.Context(), m, "hda")
		return err == nil && len(files) == 1 && files[0] == file
	}, time.Minute, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(d.Dir, "*-trial*"))
		return err == nil && len(left) == 0
	}, time.Minute, 50*time.Millisecond)
	require.NoError(t, h.(host.Power).CutOff(t.Context(), m))
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Positive(t, daemon.Counted(t, content))
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
