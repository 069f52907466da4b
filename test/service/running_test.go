package service

import (
	"bytes"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	_ "bagaglio/core/host/all"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMachinesOfHosts are seen, switched on, shown and switched off: of this computer, and of one that is reached over SSH, with its folders and
// its machines behind one login. A host that is gone is told, and hides no other one.
func TestMachinesOfHosts(t *testing.T) {
	t.Parallel()
	here, there := daemon.Start(t), daemon.Start(t)
	here.Guest(t, "ticketing", false)
	there.Guest(t, "tide-board", false)
	s := start(t)
	server := sshd.Start(t)
	change := func(name, socket string) {
		t.Helper()
		runs := "libvirt"
		_, err := s.ChangeHost(t.Context(), name, api.HostChange{Runs: &runs, Socket: &socket})
		require.NoError(t, err)
	}
	_, err := s.Machines(t.Context(), "local")
	require.ErrorContains(t, err, "bagaglio host change local --runs")
	change("local", here.Socket)
	key, agent := string(server.Key), false
	_, err = s.AddHost(t.Context(), api.NewHost{
		Name: "lighthouse", Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	change("lighthouse", there.Socket)
	addPool(t, s.Service, "quay-store", here.Dir)

	list, err := s.Machines(t.Context(), "")
	require.NoError(t, err)
	require.Empty(t, list.Away)
	require.Len(t, list.Items, 2)
	tide, ticketing := list.Items[0], list.Items[1]
	assert.Equal(t, "lighthouse tide-board off", tide.Host+" "+tide.Name+" "+string(tide.State))
	assert.Equal(t, "local ticketing off", ticketing.Host+" "+ticketing.Name+" "+string(ticketing.State))
	require.Len(t, ticketing.Disks, 1)
	assert.Equal(t, "quay-store:ticketing.raw", *ticketing.Disks[0].Pool+":"+*ticketing.Disks[0].Path)
	assert.Equal(t, "raw ide", *ticketing.Disks[0].Format+" "+*ticketing.Disks[0].Bus)
	assert.Nil(t, tide.Disks[0].Pool, "its folder is no pool")
	require.Eventually(t, func() bool {
		m, err := s.Machine(t.Context(), "local", "ticketing")
		return err == nil && m.Disks[0].VirtualSize != nil && *m.Disks[0].VirtualSize == mib+512
	}, 10*time.Second, 100*time.Millisecond, "its pool was looked through")
	assert.Equal(t, int64(32<<20), *tide.Memory)

	for _, m := range list.Items {
		m, err := s.StartMachine(t.Context(), m.Host, m.Name)
		require.NoError(t, err)
		assert.Equal(t, api.MachineStateRunning, m.State)
		require.Eventually(t, func() bool {
			picture, err := s.Screen(t.Context(), m.Host, m.Name)
			if err != nil {
				t.Logf("no picture of %s yet: %v", m.Name, err)
				return false
			}
			_, err = png.Decode(bytes.NewReader(picture))
			return err == nil
		}, time.Minute, 200*time.Millisecond)
		_, err = s.StopMachine(t.Context(), m.Host, m.Name, 1, false)
		require.ErrorContains(t, err, "did not end within 1s", "its guest does not listen")
		m, err = s.StopMachine(t.Context(), m.Host, m.Name, 0, true)
		require.NoError(t, err)
		assert.Equal(t, api.MachineStateOff, m.State)
	}
	var answer *client.Error
	_, err = s.Screen(t.Context(), "local", "ticketing")
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, http.StatusConflict, answer.Status)
	_, err = s.Machine(t.Context(), "local", "cargo-ledger")
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, http.StatusNotFound, answer.Status)

	dir := t.TempDir()
	shown := testkit.Run(t, dir, s.State, "machine", "list")
	assert.Equal(t, 0, shown.Code)
	assert.Contains(t, shown.Out, "local:ticketing")
	assert.Equal(t, 0, testkit.Run(t, dir, s.State, "machine", "start", "local:ticketing").Code)
	require.Eventually(t, func() bool {
		return testkit.Run(t, dir, s.State, "machine", "screen", "local:ticketing", "screen.png").Code == 0
	}, time.Minute, 200*time.Millisecond)
	assert.FileExists(t, filepath.Join(dir, "screen.png"))
	assert.Equal(t, 1, testkit.Run(t, dir, s.State, "machine", "screen", "local:ticketing", "screen.png").Code, "nothing is overwritten")
	assert.Equal(t, 2, testkit.Run(t, dir, s.State, "machine", "show", "ticketing").Code)
	assert.Contains(t, testkit.Run(t, dir, s.State, "machine", "show", "local:ticketing").Out, "quay-store:ticketing.raw")
	assert.Equal(t, 0, testkit.Run(t, dir, s.State, "machine", "stop", "local:ticketing", "--within", "1s", "--cut-off").Code)

	there.Kill()
	list, err = s.Machines(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	require.Len(t, list.Away, 1)
	assert.Equal(t, "lighthouse", list.Away[0].Host)
	_, err = s.Machines(t.Context(), "lighthouse")
	require.ErrorAs(t, err, &answer)
	assert.Equal(t, http.StatusServiceUnavailable, answer.Status)
	nothing := ""
	_, err = s.ChangeHost(t.Context(), "lighthouse", api.HostChange{Runs: &nothing})
	require.NoError(t, err)
	list, err = s.Machines(t.Context(), "")
	require.NoError(t, err)
	assert.Empty(t, list.Away)
	_, err = os.Stat(here.Socket)
	require.NoError(t, err)
}
