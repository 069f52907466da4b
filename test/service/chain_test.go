package service

import (
	"fmt"
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
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTenSnapshotsWithWritesBetween: a guest writes as ten snapshots are taken; each is read back by us as the disk was at one moment, later ones later, also as an
// image that is made of it; gone back to, the guest goes on from there.
func TestTenSnapshotsWithWritesBetween(t *testing.T) {
	fewer.Sometimes(t)
	r := rosters["libvirt"](t)
	const image = "crew-roster/crew-roster.qcow2"
	require.NoError(t, os.WriteFile(filepath.Join(r.folder, "writer.raw"), daemon.Counts(2<<20), 0o666))
	c := convert("writer.raw", image, "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Replace, c.NoTag = "quay-store", "quay-store", true, true
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	require.NoError(t, os.Chmod(filepath.Join(r.folder, image), 0o666))
	h, err := r.kind.Open(t.Context(), r.address)
	require.NoError(t, err)
	defer h.Close()
	m, err := h.Machine(t.Context(), "crew-roster")
	require.NoError(t, err)
	writes := func() { // so many more numbers
		t.Helper()
		begun, err := h.(host.Observer).Signs(t.Context(), m)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			now, err := h.(host.Observer).Signs(t.Context(), m)
			return err == nil && now.Written >= begun.Written+20*512
		}, time.Minute, 10*time.Millisecond)
	}
	_, err = r.StartMachine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	for i := range 10 {
		writes()
		r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: fmt.Sprintf("s%d", i)})
	}
	writes()
	_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
	require.NoError(t, err)

	folder, err := local.Open(r.folder)
	require.NoError(t, err)
	defer folder.Close()
	last := uint32(0)
	var then []uint32
	for i := range 10 {
		d, err := disk.Origin{Folder: folder, Name: image, Snapshot: fmt.Sprintf("s%d", i)}.Open(t.Context(), "qcow2")
		require.NoError(t, err)
		content := make([]byte, d.Size())
		_, err = d.ReadAt(content, 0)
		require.NoError(t, err)
		require.NoError(t, d.Close())
		n := daemon.Counted(t, content)
		assert.Greater(t, n, last, "s%d", i)
		last, then = n, append(then, n)
	}
	assert.Greater(t, daemon.Counted(t, read(t, r.folder, image)), last)
	c = convert(image, "s4.raw", "raw")
	c.Source.Pool, c.Destination.Pool, c.Source.Snapshot = "quay-store", "quay-store", "s4"
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	assert.Equal(t, then[4], daemon.Counted(t, read(t, r.folder, "s4.raw")))

	r.does(t, plan.Request{Kind: plan.GoBack, Snapshot: "s4"})
	writes()
	_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
	require.NoError(t, err)
	assert.Greater(t, daemon.Counted(t, read(t, r.folder, image)), then[4], "it has gone on from there")
}

// TestAFamilyOfTwentyMovesToAnotherHost with what each has of its own, some of them linked: every one is what it was.
func TestAFamilyOfTwentyMovesToAnotherHost(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := start(t)
	quay := s.Pool("quay-store")
	server, there := sshd.Start(t), t.TempDir()
	key, agent, on := string(server.Key), false, "lighthouse"
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent},
	})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "lamp-room", Host: &on, Folder: there})
	require.NoError(t, err)
	noise(t, quay, "base.raw", mib)
	names := []string{"base.raw"}
	for i := range 19 {
		c := convert("base.raw", fmt.Sprintf("crew-%02d.qcow2", i), "qcow2")
		c.Destination.Pool, c.Layout, c.Base = "quay-store", "overlay", names[i*i%len(names)]
		if c.Linked = i%2 == 1; c.Linked {
			c.Source.Path = c.Base
		} else {
			noise(t, quay, fmt.Sprintf("own-%02d.raw", i), mib)
			c.Source.Path = fmt.Sprintf("own-%02d.raw", i)
		}
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
		names = append(names, c.Destination.Path)
	}
	before := map[string][]byte{}
	for _, name := range names {
		before[name] = read(t, quay, name)
	}
	_, err = s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	move := plan.Request{
		Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "base.raw"}, Destination: &plan.Place{Pool: "lamp-room", Path: "base.raw"},
		Family: true, Release: true,
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	for _, name := range names {
		assert.Equal(t, before[name], read(t, there, name), name)
		assert.NoFileExists(t, filepath.Join(quay, name))
	}
}
