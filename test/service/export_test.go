package service

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDisksAreServed by the service and on the spot, in whatever form they are stored, with who reads what; not to the whole world in the clear, and not when somebody
// uses them.
func TestDisksAreServed(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "tide-board.raw", 3*mib)
	c := convert("tide-board.raw", "tide-board.vhdx", "vhdx")
	c.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	content := read(t, quay, "tide-board.raw")
	disk := plan.Place{Pool: "quay-store", Path: "tide-board.vhdx"}
	socket := filepath.Join(quay, "served.sock")
	for range 2 { // and again, once it is ended
		x, err := s.OpenExport(t.Context(), api.NewExport{Disk: disk, Socket: &socket})
		require.NoError(t, err)
		assert.Equal(t, content, readExport(t, "unix", socket))
		conn, err := (&net.Dialer{}).DialContext(t.Context(), "unix", socket)
		require.NoError(t, err)
		d, err := nbd.Connect(t.Context(), conn, "disk", nil)
		require.NoError(t, err)
		_, err = d.ReadAt(make([]byte, mib), 0)
		require.NoError(t, err)
		require.Eventually(t, func() bool { // what was sent is counted behind that
			all, err := s.Exports(t.Context())
			return err == nil && len(all) == 1 && len(all[0].Clients) == 1 && all[0].Clients[0].Bytes == mib
		}, time.Minute, 10*time.Millisecond)
		require.NoError(t, s.CloseExport(t.Context(), x.Id))
		_, err = d.ReadAt(make([]byte, mib), 0)
		require.Error(t, err, "it was cut off")
		require.NoError(t, d.Close())
	}
	for want, n := range map[string]api.NewExport{
		"name one of them":                    {Disk: disk},
		"could read the disk, and read along": {Disk: disk, Listen: ptr("0.0.0.0:0")},
		"is no address":                       {Disk: disk, Listen: ptr("nowhere")},
		"has a whole path":                    {Disk: disk, Socket: ptr("a.sock")},
		"no such file":                        {Disk: plan.Place{Pool: "quay-store", Path: "no-such.raw"}, Socket: &socket},
		"is there already":                    {Disk: disk, Socket: ptr(filepath.Join(quay, "tide-board.raw"))},
		"belongs to the service itself":       {Disk: disk, Socket: ptr(filepath.Join(s.State, "a.sock"))},
		"failed to find":                      {Disk: disk, Listen: ptr("127.0.0.1:0"), Certificate: ptr("none"), Key: ptr("none")},
	} {
		_, err := s.OpenExport(t.Context(), n)
		require.ErrorContains(t, err, want)
	}
	require.ErrorContains(t, s.CloseExport(t.Context(), "none"), "not found")

	here := filepath.Join(quay, "here.sock")
	cmd := exec.CommandContext(t.Context(), testkit.Binary(t), "disk", "serve", "./tide-board.vhdx", "--socket", "here.sock")
	var notes bytes.Buffer
	cmd.Dir, cmd.Stderr = quay, &notes
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		conn, err := net.Dial("unix", here)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, time.Minute, 20*time.Millisecond)
	assert.Equal(t, content, readExport(t, "unix", here))
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait(), "it ends well")
	assert.Contains(t, notes.String(), "is served for reading at")
	assert.NoFileExists(t, here)
}

func readExport(t *testing.T, network, at string) []byte {
	t.Helper()
	conn, err := (&net.Dialer{}).DialContext(t.Context(), network, at)
	require.NoError(t, err)
	d, err := nbd.Connect(t.Context(), conn, "disk", nil)
	require.NoError(t, err)
	defer d.Close()
	b := make([]byte, d.Size())
	_, err = d.ReadAt(b, 0)
	require.NoError(t, err)
	return b
}

// TestAServedDiskIsNotWrittenTo: a machine is not started while a disk of it is served.
func TestAServedDiskIsNotWrittenTo(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	quay.Ticketing(t, bootable())
	x, err := s.OpenExport(t.Context(), api.NewExport{Disk: plan.Place{Pool: "quay-store", Path: "ticketing.raw"}, Listen: ptr("127.0.0.1:0")})
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), "quay", "ticketing")
	require.ErrorContains(t, err, "is served at "+x.At)
	require.NoError(t, s.CloseExport(t.Context(), x.Id))
	m, err := s.StartMachine(t.Context(), "quay", "ticketing")
	require.NoError(t, err)
	assert.EqualValues(t, "running", m.State)
}

// TestAJobWaitsForWhoReads: a job that writes to a disk which is served waits until that ends, and a disk that a job writes to is not served.
func TestAJobWaitsForWhoReads(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	quay.Ticketing(t, bootable())
	at := plan.Place{Pool: "quay-store", Path: "ticketing.raw"}
	x, err := s.OpenExport(t.Context(), api.NewExport{Disk: at, Listen: ptr("127.0.0.1:0")})
	require.NoError(t, err)
	p, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.Copy, Source: at, Destination: &plan.Place{Pool: "quay-store", Path: "elsewhere.raw"}, Release: true,
	})
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: p.Id})
	require.NoError(t, err)
	waits := testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Reason != nil })
	assert.Contains(t, *waits.Reason, "is served at "+x.At)
	require.NoError(t, s.CloseExport(t.Context(), x.Id))
	assert.EqualValues(t, "done", testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Ended }).State)
}
