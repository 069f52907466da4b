package line

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// ip runs a command that sets up the network, or skips the test where this computer cannot do that.
func ip(t *testing.T, command string) {
	t.Helper()
	words := strings.Fields(command)
	if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		t.Skipf("a network of our own cannot be set up here (%s): %s", command, out)
	}
}

// island is a computer of its own behind a line of so many megabits a second.
func island(t *testing.T, mbit string) *sshd.Server {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("setting up a network takes root")
	}
	const name, near, far = "bagaglio-test", "bagaglio-near", "bagaglio-far"
	_ = exec.Command("ip", "netns", "del", name).Run() // of a test that was killed
	ip(t, "ip netns add "+name)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
	ip(t, "ip link add "+near+" type veth peer name "+far+" netns "+name)
	ip(t, "ip addr add 10.227.3.1/24 dev "+near)
	ip(t, "ip link set "+near+" up")
	for _, c := range []string{"ip addr add 10.227.3.2/24 dev " + far, "ip link set " + far + " up", "ip link set lo up", "tc qdisc add dev " + far + " root tbf rate " + mbit + "mbit burst 64kb latency 50ms"} {
		ip(t, "ip netns exec "+name+" "+c)
	}
	ip(t, "tc qdisc add dev "+near+" root tbf rate "+mbit+"mbit burst 64kb latency 50ms")
	server := sshd.StartOn(t, "10.227.3.2")
	server.Run("ip", "netns", "exec", name)
	return server
}

// TestASlowLineThatGoesDown for a while, and comes up again: the job goes on, and what arrives is proven.
func TestASlowLineThatGoesDown(t *testing.T) {
	server := island(t, "300")
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay := s.Pool("quay-store")
	content := make([]byte, 32*mib)
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
	carry := func(r plan.Request, down bool) {
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
		for seen, err := range s.Follow(t.Context(), j.Id) {
			require.NoError(t, err)
			if down && seen.Progress != nil && seen.Progress.Step == plan.StepWrite && seen.Progress.Done > 6*mib {
				down = false
				ip(t, "ip link set bagaglio-near down")
				time.AfterFunc(2*time.Second, func() { ip(t, "ip link set bagaglio-near up") })
			}
			j = seen
		}
		require.True(t, client.HasEnded(j))
		receipt, err := s.Receipt(t.Context(), j.Id)
		require.NoError(t, err)
		assert.Equal(t, job.Proven, receipt.Outcome, "%s", receipt.Reason)
		assert.False(t, down, "the line was never cut: the test tested nothing")
	}
	carry(plan.Request{Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"}, Destination: &plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"}}, true)
	carry(plan.Request{Kind: plan.Convert, Source: plan.Place{Pool: "far-store", Path: "cargo-ledger.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"}, As: "qcow2"}, true)
}
