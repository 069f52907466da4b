package service

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counting is a machine whose guest writes numbers all the time, on a daemon with two pools.
type counting struct {
	*testkit.Service
	*daemon.Daemon
	h             host.Host
	lamp, gallery string // the folders of the pools
}

func startCounting(t *testing.T) counting {
	t.Helper()
	return startCountingOn(t, start(t), "local")
}

// startCountingOn does so on a host that is this computer.
func startCountingOn(t *testing.T, s *testkit.Service, on string) counting {
	t.Helper()
	d := daemon.Start(t)
	runs := "libvirt"
	_, err := s.ChangeHost(t.Context(), on, api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	c := counting{s, d, nil, filepath.Join(d.Dir, "lamp-room"), filepath.Join(d.Dir, "gallery")}
	for name, folder := range map[string]string{"lamp-room": c.lamp, "gallery": c.gallery} {
		require.NoError(t, os.MkdirAll(folder, 0o777))
		require.NoError(t, os.Chmod(folder, 0o777))
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Host: &on, Folder: folder})
		require.NoError(t, err)
		_, err = s.ChangePool(t.Context(), name, api.PoolChange{Rules: plan.Rules{Owner: d.Owner, Mode: "0660"}})
		require.NoError(t, err)
	}
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	c.h, err = kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.h.Close() })
	disk := d.Disk(t, "lamp-room/ticketing.raw", daemon.Counts(8<<20))
	m, err := c.h.(host.Definer).Define(t.Context(), []byte(daemon.Definition("ticketing", disk)))
	require.NoError(t, err)
	second := machine.Disk{File: d.Disk(t, "lamp-room/log.raw", bytes.Repeat([]byte("tide"), mib/4)), Format: "raw", Bus: "ide"}
	require.NoError(t, c.h.(host.Attacher).Attach(t.Context(), m, second))
	_, err = s.StartMachine(t.Context(), on, "ticketing")
	require.NoError(t, err)
	c.writes(t)
	return c
}

// writes waits until the guest has written some more numbers.
func (c counting) writes(t *testing.T) {
	t.Helper()
	m, err := c.h.Machine(t.Context(), "ticketing")
	require.NoError(t, err)
	begun, err := c.h.(host.Observer).Signs(t.Context(), m)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := c.h.(host.Observer).Signs(t.Context(), m)
		return err == nil && now.Written >= begun.Written+20*512
	}, time.Minute, 10*time.Millisecond)
}

func liveMove(as string) plan.Request {
	return plan.Request{
		Kind: plan.MoveMachine, Machine: "local:ticketing", To: "local", Destination: &plan.Place{Pool: "gallery"}, As: as, Live: true,
	}
}

// TestStorageMovesWhileAGuestWrites, into another pool and another form: the guest goes on all the while and loses nothing, the definition names the new disk alone, the
// old one is held as it was when it stood still, and nothing is left over. It goes back the same way, by a move of its own.
func TestStorageMovesWhileAGuestWrites(t *testing.T) {
	fewer.Sometimes(t)
	for _, as := range []string{"qcow2", "raw"} {
		t.Run(as, func(t *testing.T) {
			c := startCounting(t)
			p, err := c.Plan(t.Context(), liveMove(as))
			require.NoError(t, err)
			require.False(t, p.Blocked, messages(p.Plan))
			done := testkit.Proven(t, c.Service.Service, testkit.Begin(t, c.Service.Service, liveMove(as)).Id)
			assert.True(t, done.Machine.CameUp)
			assert.Equal(t, 1, done.Passes)
			assert.Positive(t, done.StoppedMs)
			assert.Less(t, done.StoppedMs, int64(5000))
			t.Logf("its guest stood still for %d ms at most", done.StoppedMs)
			assert.Contains(t, done.Compared, "what was written since its host has carried over, and it was not read")
			m, err := c.Machine(t.Context(), "local", "ticketing")
			require.NoError(t, err)
			assert.EqualValues(t, "running", m.State)
			require.Len(t, m.Disks, 2)
			for i, d := range m.Disks {
				require.Equal(t, "gallery", *d.Pool)
				assert.Equal(t, as, m.Is.Disks[i].Format)
			}
			assert.NoFileExists(t, filepath.Join(c.lamp, "ticketing.raw"), "it is held")
			held, err := c.Held(t.Context())
			require.NoError(t, err)
			require.Len(t, held, 2)
			left, err := os.ReadDir(filepath.Join(c.gallery, "ticketing"))
			require.NoError(t, err)
			for _, f := range left {
				assert.NotContains(t, f.Name(), "-meanwhile")
				assert.NotContains(t, f.Name(), "-since")
			}
			c.writes(t)
			_, err = c.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: done.ID})
			require.Error(t, err)

			out := testkit.Run(
				t,
				t.TempDir(),
				c.State,
				"machine",
				"move",
				"local:ticketing",
				"local",
				"--pool",
				"lamp-room",
				"--as",
				"raw",
				"--live",
				"--yes",
				"--json",
			)
			require.Zero(t, out.Code, out.Notes)
			var told struct {
				Outcome   string
				StoppedMs int64 `json:"stopped_ms"`
				Passes    int
				Machine   struct {
					CameUp bool `json:"came_up"`
				}
			}
			require.NoError(t, json.Unmarshal([]byte(out.Out), &told), out.Out)
			assert.Equal(t, "proven", told.Outcome)
			assert.True(t, told.Machine.CameUp)
			assert.Equal(t, 1, told.Passes)
			assert.Positive(t, told.StoppedMs)
			c.writes(t)
			_, err = c.StopMachine(t.Context(), "local", "ticketing", 0, true)
			require.NoError(t, err)
			numbers := daemon.Counted(t, read(t, c.lamp, "ticketing/ticketing.raw"))
			assert.Greater(t, numbers, uint32(60))
			assert.Equal(t, bytes.Repeat([]byte("tide"), mib/4), read(t, c.lamp, "ticketing/log.raw"))
		})
	}
}

// TestALiveMoveIsGivenUp: cancelled while its disk is copied, the guest goes on from its old disk with all that it wrote meanwhile, and nothing is left over.
func TestALiveMoveIsGivenUp(t *testing.T) {
	c := startCounting(t)
	speed := int64(1 << 20)
	p, err := c.Plan(t.Context(), liveMove("qcow2"))
	require.NoError(t, err)
	j, err := c.Start(t.Context(), api.NewJob{Plan: p.Id, Speed: &speed})
	require.NoError(t, err)
	m, err := c.h.Machine(t.Context(), "ticketing")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		files, err := c.h.(host.Layerer).Layers(t.Context(), m, "hda")
		return err == nil && len(files) == 2
	}, time.Minute, 20*time.Millisecond)
	c.writes(t)
	_, err = c.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	ended := testkit.Await(t, c.Service.Service, j.Id)
	assert.Equal(t, api.JobStateCancelled, ended.State)
	assert.EqualValues(t, receipt.Cancelled, *ended.Outcome)
	files, err := c.h.(host.Layerer).Layers(t.Context(), m, "hda")
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(c.lamp, "ticketing.raw")}, files)
	c.writes(t)
	_, err = c.StopMachine(t.Context(), "local", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, c.lamp, "ticketing.raw")), uint32(40))
	left, err := filepath.Glob(filepath.Join(c.gallery, "ticketing", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestAMachineMovesWhileItWrites to another host, over SSH: it goes on while its disk is copied, and what it writes meanwhile is; it is shut down, started in its new
// place, and has every number. Nothing is left over there, and the old host does not know it any more.
func TestAMachineMovesWhileItWrites(t *testing.T) {
	fewer.Sometimes(t)
	s, here, there := twoHosts(t)
	require.NoError(t, os.WriteFile(filepath.Join(here.Dir, "ticketing.raw"), daemon.Counts(8<<20), 0o666))
	_, err := s.ChangePool(t.Context(), "quay-store", api.PoolChange{Rules: plan.Rules{Owner: here.Owner, Mode: "0660"}})
	require.NoError(t, err)
	require.NoError(t, exec.CommandContext(t.Context(), "chown", here.Owner, filepath.Join(here.Dir, "ticketing.raw")).Run())
	_, err = s.StartMachine(t.Context(), "local", "ticketing")
	require.NoError(t, err)
	here.Loaded(t, "ticketing")
	r := liveMove("raw")
	r.To, r.Destination = "lighthouse", &plan.Place{Pool: "lamp-room"}
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.False(t, p.Blocked, messages(p.Plan))
	assert.Contains(t, messages(p.Plan), "within 30 s, it is shut down, and started on lighthouse")
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.True(t, done.Machine.CameUp)
	assert.GreaterOrEqual(t, done.Passes, 2)
	assert.Positive(t, done.StoppedMs)
	t.Logf("it stood still for %d ms", done.StoppedMs)
	assert.Contains(t, done.Compared, "each MiB that was written to since")
	assert.Contains(t, strings.Join(done.Machine.Evidence, "; "), "was handed over with the fingerprint bf1-")
	assert.Empty(t, state(t, s, "local"))
	assert.Equal(t, api.MachineStateRunning, state(t, s, "lighthouse"))
	m, err := s.Machine(t.Context(), "lighthouse", "ticketing")
	require.NoError(t, err)
	assert.Equal(t, "raw", m.Is.Disks[0].Format)
	assert.NoFileExists(t, filepath.Join(here.Dir, "ticketing.raw"), "it is held")
	for _, dir := range []string{here.Dir, filepath.Join(there.Dir, "ticketing")} {
		left, err := filepath.Glob(filepath.Join(dir, "*-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	_, err = s.StopMachine(t.Context(), "lighthouse", "ticketing", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, there.Dir, "ticketing/ticketing.raw")), uint32(60))
}

// TestALeftoverIsFound: a guest that goes on from an image which a job had put on its disk, of which nobody knows any more, is found, and mended while it runs.
func TestALeftoverIsFound(t *testing.T) {
	c := startCounting(t)
	folder, err := local.Open(c.lamp)
	require.NoError(t, err)
	defer folder.Close()
	base, err := disk.Open(t.Context(), folder, "ticketing.raw", "raw")
	require.NoError(t, err)
	qcow2, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	const name = "ticketing-0b5e7c1e-meanwhile.qcow2"
	made, err := qcow2.Create(
		disk.Target{
			Folder:   folder,
			Name:     name,
			Size:     base.Size(),
			Layout:   "overlay",
			Base:     base,
			BaseName: filepath.Join(c.lamp, "ticketing.raw"),
		},
	)
	require.NoError(t, err)
	require.NoError(t, made.Commit(t.Context()))
	require.NoError(t, errors.Join(made.Close(), base.Close()))
	require.NoError(t, os.Chmod(filepath.Join(c.lamp, name), 0o666))
	found, err := c.MachineFindings(t.Context(), "local")
	require.NoError(t, err)
	assert.Empty(t, found.Items)
	m, err := c.h.Machine(t.Context(), "ticketing")
	require.NoError(t, err)
	_, err = c.h.(host.Layerer).Cover(t.Context(), m, map[string]string{"hda": filepath.Join(c.lamp, name)}, false)
	require.NoError(t, err)
	c.writes(t)
	_, err = c.ListDisks(t.Context(), "lamp-room", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	found, err = c.MachineFindings(t.Context(), "local")
	require.NoError(t, err)
	require.Len(t, found.Items, 1)
	assert.EqualValues(t, "leftover", found.Items[0].Kind)
	require.Len(t, *found.Items[0].Mends, 1)
	testkit.Proven(t, c.Service.Service, testkit.Begin(t, c.Service.Service, (*found.Items[0].Mends)[0]).Id)
	c.writes(t)
	found, err = c.MachineFindings(t.Context(), "local")
	require.NoError(t, err)
	assert.Empty(t, found.Items)
	files, err := c.h.(host.Layerer).Layers(t.Context(), m, "hda")
	require.NoError(t, err)
	assert.Len(t, files, 1, "it stands alone")
}
