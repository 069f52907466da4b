package line

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// acrossPorters is a service and a porter at the near end of a line, and a porter at its far end with a disk of so many bytes.
func acrossPorters(t *testing.T, l *link, size int64) (s *testkit.Service, there, here string) {
	l.lay(t)
	there, here = inMemory(t), inMemory(t)
	s = testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--porters", l.nearAddress()+":0")
	testkit.JoinIn(t, s, "annex", l.inside(), "--peers", l.farAddress()+":2249")
	testkit.JoinIn(t, s, "beacon", nil)
	for host, folder := range map[string]string{"annex": there, "beacon": here} {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: host + "-store", Host: &host, Folder: folder})
		require.NoError(t, err)
	}
	testkit.Noise(t, filepath.Join(there, "cargo-ledger.raw"), size)
	return s, there, here
}

var fromAnnex = plan.Request{
	Kind: plan.Copy, Source: plan.Place{Pool: "annex-store", Path: "cargo-ledger.raw"},
	Destination: &plan.Place{Pool: "beacon-store", Path: "cargo-ledger.raw"},
}

// TestBetweenPortersEachByteGoesOnce over a line with a delay, and the plan says how fast that is.
func TestBetweenPortersEachByteGoesOnce(t *testing.T) {
	fewer.Sometimes(t)
	const size = 96 * mib
	const sample = 16 * mib // of a source, which is read again at the end
	l := &link{rate: 1e9 / 8, delay: 10 * time.Millisecond, mtu: 60_000}
	s, _, here := acrossPorters(t, l, size)
	kept, err := s.Plan(t.Context(), fromAnnex)
	require.NoError(t, err)
	assert.Equal(t, "beacon", kept.Plan.Porter)
	lines, err := s.Lines(t.Context())
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Less(t, *lines[0].Speed, 130e6, "it is no faster than the line")
	before := l.carried.Load()
	job, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(t, err)
	assert.Equal(t, "beacon", testkit.Proven(t, s.Service, job.Id).Porter)
	moved := l.carried.Load() - before
	t.Logf("%d MiB of a disk of %d MiB went over the line", moved/mib, size/mib)
	assert.Less(t, moved, int64(size+sample+size/16))
	info, err := os.Stat(filepath.Join(here, "cargo-ledger.raw"))
	require.NoError(t, err)
	assert.Equal(t, int64(size), info.Size())
}

// TestSpeedBetweenPorters measures, and is part of make bench: against what cat carries over the same line, without a fingerprint or encryption.
func TestSpeedBetweenPorters(t *testing.T) {
	if os.Getenv("BAGAGLIO_BENCH") == "" {
		t.Skip("measured on request: make bench")
	}
	const size, gigabit = 2 << 30, 1e9 / 8
	l := &link{rate: gigabit, delay: 10 * time.Millisecond, mtu: 60_000}
	s, there, here := acrossPorters(t, l, size)
	var ours, plain []float64
	for i := range 3 {
		r := fromAnnex
		r.NoProof, r.Destination = true, &plan.Place{Pool: "beacon-store", Path: fmt.Sprintf("copy-%d.raw", i)}
		job := testkit.Begin(t, s.Service, r)
		testkit.Await(t, s.Service, job.Id)
		done, err := s.Receipt(t.Context(), job.Id)
		require.NoError(t, err)
		for _, step := range done.Steps {
			if step.Name == plan.StepFill {
				ours = append(ours, size/step.Seconds)
			}
		}
		require.NoError(t, os.Remove(filepath.Join(here, r.Destination.Path)))
		plain = append(plain, size/l.overTCP(t, filepath.Join(there, "cargo-ledger.raw"), filepath.Join(here, "plain")).Seconds())
	}
	t.Logf(
		"between two porters, 1 Gbit/s and 20 ms there and back: %.0f MiB/s; share of the line %.2f; cat carried %.0f MiB/s, ratio %.2f",
		median(ours)/mib,
		median(ours)/gigabit,
		median(plain)/mib,
		median(ours)/median(plain),
	)
}

// overTCP is how long cat takes to send a file of the island through the line, until it is on stable storage here.
func (l *link) overTCP(t *testing.T, from, to string) time.Duration {
	in, err := net.Listen("tcp", l.nearAddress()+":0")
	require.NoError(t, err)
	defer in.Close()
	began := time.Now()
	_, port, err := net.SplitHostPort(in.Addr().String())
	require.NoError(t, err)
	words := append(l.inside(), "bash", "-c", fmt.Sprintf("cat %s > /dev/tcp/%s/%s", from, l.nearAddress(), port))
	cat := exec.Command(words[0], words[1:]...)
	require.NoError(t, cat.Start())
	c, err := in.Accept()
	require.NoError(t, err)
	file, err := os.Create(to)
	require.NoError(t, err)
	_, err = io.Copy(file, c)
	require.NoError(t, err)
	require.NoError(t, file.Sync())
	took := time.Since(began)
	require.NoError(t, errors.Join(cat.Wait(), c.Close(), file.Close(), os.Remove(to)))
	return took
}
