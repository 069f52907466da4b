package line

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// farPool adds a pool on the computer behind the line, and returns its folder.
func farPool(t *testing.T, s *testkit.Service, server *sshd.Server) string {
	key, host, dir := string(server.Key), "lighthouse", t.TempDir()
	require.Eventually(t, func() bool {
		_, err := s.AddHost(
			t.Context(),
			api.NewHost{
				Name:       host,
				Kind:       api.NewHostKindSftp,
				Address:    server.Address,
				User:       &server.User,
				TrustedKey: &server.HostKey,
				Login:      &api.Secrets{Key: &key},
			},
		)
		return err == nil
	}, 10*time.Second, 100*time.Millisecond, "the island's sshd did not start")
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "far-store", Host: &host, Folder: dir})
	require.NoError(t, err)
	return dir
}

// TestAThinDiskMovesWhatItStores, and no more: to the host and back, copied and converted.
func TestAThinDiskMovesWhatItStores(t *testing.T) {
	const virtual, stored = 48 << 30, 180 * mib
	const sample = 16 * mib // of a source, which is read again at the end
	l := &link{rate: 1e9, mtu: 60_000}
	server := lay(t, l)
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	thin, err := os.Create(filepath.Join(s.Pool("quay-store"), "tide-board.raw"))
	require.NoError(t, err)
	for at := int64(0); at < stored; at += mib { // in many places
		b := make([]byte, mib)
		_, _ = rand.Read(b) // never fails
		_, err := thin.WriteAt(b, at*270)
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(thin.Truncate(virtual), thin.Close()))
	dir := farPool(t, s, server)
	for _, c := range []struct {
		what string
		r    plan.Request
		most int64 // bytes over the line
	}{
		{"there, and read back", plan.Request{Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Destination: &plan.Place{Pool: "far-store", Path: "tide-board.raw"}}, 2 * stored},
		{"and back", plan.Request{Kind: plan.Copy, Source: plan.Place{Pool: "far-store", Path: "tide-board.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: "back.raw"}}, stored + sample},
		{"converted", plan.Request{Kind: plan.Convert, As: "vmdk", Source: plan.Place{Pool: "far-store", Path: "tide-board.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: "back.vmdk"}}, stored + sample},
	} {
		before := l.carried.Load()
		kept, err := s.Plan(t.Context(), c.r)
		require.NoError(t, err)
		assert.Equal(t, int64(stored), kept.Plan.BytesToWrite, c.what)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
		for _, err := range s.Follow(t.Context(), j.Id) {
			require.NoError(t, err)
		}
		done, err := s.Receipt(t.Context(), j.Id)
		require.NoError(t, err)
		assert.Equal(t, receipt.Proven, done.Outcome, "%s: %s", c.what, done.Reason)
		moved := l.carried.Load() - before
		t.Logf("%s: %d MiB went over the line", c.what, moved/mib)
		assert.Less(t, moved, c.most+c.most/20, c.what)
	}
	info, err := os.Stat(filepath.Join(dir, "tide-board.raw"))
	require.NoError(t, err)
	assert.Less(t, info.Sys().(*syscall.Stat_t).Blocks*512, int64(stored+mib), "it is thin there too")
}

// TestALongLineThatLosesAndGoesDown for a while, and comes up again: the job goes on, and what arrives is proven.
func TestALongLineThatLosesAndGoesDown(t *testing.T) {
	l := &link{rate: 300e6 / 8, delay: 5 * time.Millisecond, loss: 0.002, mtu: 1500}
	server := lay(t, l)
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay := s.Pool("quay-store")
	content := make([]byte, 16*mib)
	for i := range content {
		content[i] = byte(i>>16) ^ byte(i*7)
	}
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo-ledger.raw"), content, 0o600))
	farPool(t, s, server)
	carry := func(r plan.Request) {
		down, up := true, make(chan error, 1)
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
		for seen, err := range s.Follow(t.Context(), j.Id) {
			require.NoError(t, err)
			if down && seen.Progress != nil && seen.Progress.Step == plan.StepFill && seen.Progress.Done > 4*mib {
				down = false
				run(t, "ip link set "+l.near()+" down")
				time.AfterFunc(2*time.Second, func() { up <- exec.Command("ip", "link", "set", l.near(), "up").Run() })
			}
			j = seen
		}
		require.True(t, j.Ended)
		done, err := s.Receipt(t.Context(), j.Id)
		require.NoError(t, err)
		assert.Equal(t, receipt.Proven, done.Outcome, "%s", done.Reason)
		require.False(t, down, "the line was never cut: the test tested nothing")
		require.NoError(t, <-up)
	}
	carry(
		plan.Request{
			Kind:        plan.Copy,
			Source:      plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"},
			Destination: &plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"},
		},
	)
	carry(
		plan.Request{
			Kind:        plan.Convert,
			Source:      plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"},
			As:          "qcow2",
		},
	)
	assert.Greater(t, l.lost.Load(), int64(10), "packets that the line lost")
}
