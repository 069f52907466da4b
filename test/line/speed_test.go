package line

import (
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/sftp"
	"bagaglio/core/transfer"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/require"
)

// bed is a computer with SSH, and files at both ends.
type bed struct {
	t         *testing.T
	server    *sshd.Server
	near, far string
	size      int64
}

func newBed(t *testing.T, server *sshd.Server, near, far string, size int64) *bed {
	b := &bed{t, server, near, far, size}
	p := make([]byte, size)
	_, _ = rand.Read(p) // never fails
	require.NoError(t, os.WriteFile(filepath.Join(b.near, "disk"), p, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(b.far, "disk"), p, 0o600))
	return b
}

// ours carries the file in one direction as a job does, syncs it, and returns bytes a second.
func (b *bed) ours(put bool) float64 {
	t := b.t
	near, err := local.Open(b.near)
	require.NoError(t, err)
	far, err := sftp.Open(
		t.Context(),
		sftp.Login{Address: b.server.Address, User: b.server.User, Key: b.server.Key, HostKey: b.server.HostKey},
		b.far,
	)
	require.NoError(t, err)
	defer far.Close()
	var from, to storage.Folder = near, far
	if !put {
		from, to = far, near
	}
	start := time.Now()
	src, err := disk.OpenVerbatim(from, []disk.VerbatimFile{{Name: "disk", Size: b.size}})
	require.NoError(t, err)
	defer src.Close()
	dst, err := disk.Verbatim([]disk.VerbatimFile{{Name: "copy", Size: b.size}}).Create(disk.Target{Folder: to})
	require.NoError(t, err)
	var meter transfer.Meter
	carry := transfer.Transfer{
		Source:      src,
		Destination: dst,
		Meter:       &meter,
		Keep:        func(transfer.Mark) error { return nil },
		Every:       time.Second,
	} // a job keeps marks
	_, err = carry.Run(t.Context())
	require.NoError(t, err)
	require.NoError(t, dst.Commit(t.Context()))
	speed := float64(b.size) / time.Since(start).Seconds()
	require.NoError(t, to.Remove("copy"))
	return speed
}

// system does the same with the system's own client.
func (b *bed) system(put bool) float64 {
	host, port, err := net.SplitHostPort(b.server.Address)
	require.NoError(b.t, err)
	batch, out := "put -f "+b.near+"/disk "+b.far+"/copy", b.far+"/copy"
	if !put {
		batch, out = "get -f "+b.far+"/disk "+b.near+"/copy", b.near+"/copy"
	}
	cmd := exec.Command(
		"sh",
		"-c",
		`echo "$0" | sftp -q -i "$1" -P "$2" -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -b - "$3"`,
		batch,
		b.server.KeyFile,
		port,
		b.server.User+"@"+host,
	)
	start := time.Now()
	text, err := cmd.CombinedOutput()
	require.NoError(b.t, err, "%s", text)
	speed := float64(b.size) / time.Since(start).Seconds()
	require.NoError(b.t, os.Remove(out))
	return speed
}

// plain sends as much over a plain TCP connection, of which nothing is kept: what the line itself gives at this time.
func (b *bed) plain(l *link, put bool) float64 {
	t := b.t
	listener, err := net.Listen("tcp", l.nearAddress()+":0")
	require.NoError(t, err)
	defer listener.Close()
	at := strings.ReplaceAll(listener.Addr().String(), ":", "/")
	command := "cat < /dev/tcp/" + at + " > /dev/null"
	if !put {
		command = fmt.Sprintf("head -c %d /dev/zero > /dev/tcp/%s", b.size, at)
	}
	start := time.Now()
	words := append(l.inside(), "bash", "-c", command)
	cmd := exec.Command(words[0], words[1:]...)
	require.NoError(t, cmd.Start())
	conn, err := listener.Accept()
	require.NoError(t, err)
	if put {
		_, err = io.CopyN(conn, zeros{}, b.size)
	} else {
		_, err = io.Copy(io.Discard, conn)
	}
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	require.NoError(t, cmd.Wait())
	return float64(b.size) / time.Since(start).Seconds()
}

// zeros has no end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

// inMemory is a folder that is kept in memory, where this computer has one.
func inMemory(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "bagaglio-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(dir)) })
	return dir
}

func median(x []float64) float64 {
	slices.Sort(x)
	return x[len(x)/2]
}

// TestSpeed measures, and is part of make bench: a test that is timed says nothing on a busy computer.
func TestSpeed(t *testing.T) {
	if os.Getenv("BAGAGLIO_BENCH") == "" {
		t.Skip("measured on request: make bench")
	}
	b := newBed(t, sshd.Start(t), t.TempDir(), t.TempDir(), 1<<30)
	const rounds = 3
	for _, put := range []bool{true, false} {
		if os.Getenv("BAGAGLIO_BENCH") == "line" {
			break
		}
		way := map[bool]string{true: "to the host", false: "from the host"}[put]
		var ours, system []float64
		for range rounds { // in turns, so that a slow minute hits both
			ours = append(ours, b.ours(put))
			system = append(system, b.system(put))
		}
		t.Logf(
			"loopback, %s: %.0f MiB/s; the system's own client %.0f MiB/s; ratio %.2f",
			way,
			median(ours)/(1<<20),
			median(system)/(1<<20),
			median(ours)/median(system),
		)
	}
	const gigabit = 1e9 / 8
	// Packets are large, so that the program which carries them takes as little as it can of the processors that it shares with both ends.
	l := &link{rate: gigabit, delay: 10 * time.Millisecond, mtu: 60_000}
	server := lay(t, l)
	require.Eventually(
		t,
		func() bool { _, err := sftp.ShownKey(t.Context(), server.Address); return err == nil },
		10*time.Second,
		50*time.Millisecond,
		"the island's sshd did not start",
	)
	b = newBed(t, server, inMemory(t), inMemory(t), 2<<30) // the line is measured, not the storage at its ends
	for _, put := range []bool{true, false} {
		var ours, system, plain []float64
		for range rounds {
			ours = append(ours, b.ours(put))
			system = append(system, b.system(put))
			plain = append(plain, b.plain(l, put))
		}
		t.Logf(
			"1 Gbit/s and 20 ms there and back, %s: %.0f MiB/s; share of the line %.2f; the system's own client %.2f; a plain connection %.2f",
			map[bool]string{true: "to the host", false: "from the host"}[put],
			median(ours)/(1<<20),
			median(ours)/gigabit,
			median(system)/gigabit,
			median(plain)/gigabit,
		)
	}
}
