package line

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

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
	key, host := string(server.Key), "lighthouse"
	require.Eventually(t, func() bool {
		_, err := s.AddHost(t.Context(), api.NewHost{Name: host, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey, Login: &api.Secrets{Key: &key}})
		return err == nil
	}, 10*time.Second, 100*time.Millisecond, "the island's sshd did not start")
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "far-store", Host: &host, Folder: t.TempDir()})
	require.NoError(t, err)
	carry := func(r plan.Request) {
		down, up := true, make(chan error, 1)
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
		for seen, err := range s.Follow(t.Context(), j.Id) {
			require.NoError(t, err)
			if down && seen.Progress != nil && seen.Progress.Step == plan.StepWrite && seen.Progress.Done > 4*mib {
				down = false
				run(t, "ip link set "+near+" down")
				time.AfterFunc(2*time.Second, func() { up <- exec.Command("ip", "link", "set", near, "up").Run() })
			}
			j = seen
		}
		require.True(t, client.HasEnded(j))
		receipt, err := s.Receipt(t.Context(), j.Id)
		require.NoError(t, err)
		assert.Equal(t, job.Proven, receipt.Outcome, "%s", receipt.Reason)
		require.False(t, down, "the line was never cut: the test tested nothing")
		require.NoError(t, <-up)
	}
	carry(plan.Request{Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"}, Destination: &plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"}})
	carry(plan.Request{Kind: plan.Convert, Source: plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"}, As: "qcow2"})
	assert.Greater(t, l.lost.Load(), int64(10), "packets that the line lost")
}
