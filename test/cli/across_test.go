package cli

import (
	"bytes"
	"crypto/sha256"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	formats "bagaglio/core/disk"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mebi = 1 << 20

// TestBetweenThisComputerAndAPool: an image of any format goes into a pool in any other and comes back, and its content is what it was; nothing is left of what was
// sent, nor of what was only planned.
func TestBetweenThisComputerAndAPool(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay, here := t.TempDir(), t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: quay})
	require.NoError(t, err)
	testkit.Noise(t, filepath.Join(here, "ticketing.raw"), 9*mebi)
	require.NoError(t, os.Truncate(filepath.Join(here, "ticketing.raw"), 70*mebi))
	content, err := os.ReadFile(filepath.Join(here, "ticketing.raw"))
	require.NoError(t, err)
	arriving := func() int {
		left, err := filepath.Glob(filepath.Join(quay, ".bagaglio", "arriving", "*"))
		require.NoError(t, err)
		return len(left)
	}
	run := func(code int, args ...string) testkit.Result {
		t.Helper()
		out := testkit.Run(t, here, s.State, args...)
		require.Equal(t, code, out.Code, "%s\n%s", out.Notes, out.Out)
		return out
	}
	run(0, "convert", "./ticketing.raw", "quay-store:", "--as", "vmdk", "--plan")
	assert.Zero(t, arriving(), "a plan leaves nothing")
	assert.NoFileExists(t, filepath.Join(quay, "ticketing.vmdk"))
	for _, f := range formats.Formats() {
		name := "of-" + f.Name + f.Extensions[0]
		out := run(0, "convert", "./ticketing.raw", "quay-store:"+name, "--as", f.Name, "--yes")
		assert.Contains(t, out.Out, "PROVEN")
		assert.Contains(t, out.Out, "It has the fingerprint of what was read on this computer.")
		assert.Zero(t, arriving())
		out = run(0, "convert", "quay-store:"+name, "./back-"+f.Name+".raw", "--as", "raw", "--yes")
		assert.Contains(t, out.Out, "PROVEN")
		assert.Contains(t, out.Out, "The service read the same where the disk lies")
		back, err := os.ReadFile(filepath.Join(here, "back-"+f.Name+".raw"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content, back), f.Name)
	}
	run(0, "convert", "quay-store:of-qcow2.qcow2", "./tide.vhdx", "--yes")
	run(0, "convert", "./tide.vhdx", "quay-store:tide.raw", "--as", "raw", "--used-only", "--yes")

	run(3, "convert", "./ticketing.raw", "quay-store:tide.raw", "--as", "raw", "--yes")
	run(3, "convert", "quay-store:tide.raw", "./ticketing.raw", "--yes")
	assert.Zero(t, arriving())
	run(3, "convert", "quay-store:nothing.raw", "./nothing.qcow2", "--yes")
	run(2, "copy", "./ticketing.raw", "quay-store:x.raw", "--yes")
	run(2, "convert", "quay-store:tide.raw", "./tide.qcow2", "--speed", "1M", "--yes")
}

// spoiling passes on what is asked of a service, and turns a bit of what it sends, or of what it is sent, of some requests.
func spoiling(t *testing.T, s *testkit.Service, spoils func(n int64) bool) string {
	t.Helper()
	at, err := url.Parse(s.Address)
	require.NoError(t, err)
	turned := func(body io.ReadCloser) io.ReadCloser {
		b, err := io.ReadAll(body)
		assert.NoError(t, err)
		if len(b) > 100 {
			b[len(b)/2] ^= 4
		}
		return io.NopCloser(bytes.NewReader(b))
	}
	proxy := httputil.NewSingleHostReverseProxy(at)
	var n atomic.Int64
	proxy.ModifyResponse = func(r *http.Response) error {
		if strings.Contains(r.Request.URL.Path, "/content/") && r.Request.Method == http.MethodGet && spoils(n.Add(1)) {
			r.Body = turned(r.Body)
		}
		return nil
	}
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && spoils(n.Add(1)) {
			r.Body = turned(r.Body)
		}
		r.Host = at.Host
		proxy.ServeHTTP(w, r)
	})}
	go func() { _ = server.Serve(line) }()
	t.Cleanup(func() { _ = server.Close() })
	return "http://" + line.Addr().String()
}

// TestALineThatSpoilsWhatGoesOverIt is found out: up, what was spoilt is sent again; down, nothing is called proven, with a tag and without.
func TestALineThatSpoilsWhatGoesOverIt(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay, here := t.TempDir(), t.TempDir()
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: quay})
	require.NoError(t, err)
	testkit.Noise(t, filepath.Join(here, "ticketing.raw"), 9*mebi)
	testkit.Noise(t, filepath.Join(quay, "without-tag.raw"), 9*mebi)
	line := spoiling(t, s, func(n int64) bool { return n == 2 })
	out := testkit.Run(t, here, s.State, "convert", "./ticketing.raw", "quay-store:ticketing.raw", "--yes", "--address", line)
	require.Zero(t, out.Code, out.Notes)
	assert.Contains(t, out.Out, "PROVEN")
	sent, err := os.ReadFile(filepath.Join(quay, "ticketing.raw"))
	require.NoError(t, err)
	content, err := os.ReadFile(filepath.Join(here, "ticketing.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, sent))
	for _, name := range []string{"ticketing", "without-tag"} {
		line := spoiling(t, s, func(n int64) bool { return n > 8 && n%4 == 0 })
		out := testkit.Run(t, here, s.State, "convert", "quay-store:"+name+".raw", "./"+name+"-back.qcow2", "--yes", "--address", line)
		assert.NotZero(t, out.Code, name)
		assert.NotContains(t, out.Out, "PROVEN", name)
	}
}

// TestThroughPipes: a disk comes on standard input and goes to standard output, between computers and pools; what cannot go there is said.
func TestThroughPipes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	state := filepath.Join(dir, "state")
	s := testkit.Start(t, state)
	s.Pool("quay-store")
	disk(t, filepath.Join(dir, "ticketing.raw"), 24<<20)
	content, err := os.ReadFile(filepath.Join(dir, "ticketing.raw"))
	require.NoError(t, err)
	between := filepath.Join(dir, "between")
	require.NoError(t, os.Mkdir(between, 0o700))
	run := func(in []byte, args ...string) (out []byte, notes string, err error) {
		c := exec.CommandContext(t.Context(), testkit.Binary(t), args...)
		c.Dir, c.Stdin = dir, bytes.NewReader(in)
		c.Env = append(os.Environ(), "BAGAGLIO_STATE="+state, "TMPDIR="+between)
		var said bytes.Buffer
		c.Stderr = &said
		out, err = c.Output()
		return out, said.String(), err
	}
	out, notes, err := run(content, "convert", "-", "quay-store:ticketing.qcow2", "--from", "raw")
	require.NoError(t, err, notes)
	assert.Contains(t, string(out), "PROVEN")
	out, notes, err = run(nil, "convert", "quay-store:ticketing.qcow2", "-", "--as", "raw")
	require.NoError(t, err, notes)
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(out), "nothing but the disk goes to standard output")
	assert.Contains(t, notes, "PROVEN")
	stream, notes, err := run(content, "convert", "-", "-", "--from", "raw", "--as", "vmdk", "--layout", "stream")
	require.NoError(t, err, notes)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stream.vmdk"), stream, 0o600))
	r := testkit.Run(t, dir, state, "prove", "./stream.vmdk", "--against", "./ticketing.raw")
	assert.Equal(t, 0, r.Code, r.Notes)

	unproven, notes, err := run(nil, "convert", "./ticketing.raw", "-", "--as", "raw", "--no-proof")
	require.NoError(t, err, notes)
	assert.Equal(t, sha256.Sum256(content), sha256.Sum256(unproven))
	assert.Contains(t, notes, "without having been proven")
	assert.NotContains(t, notes, "read back and compared")
	planned, notes, err := run(nil, "convert", "./ticketing.raw", "-", "--as", "qcow2", "--plan")
	require.NoError(t, err, notes)
	assert.Contains(t, string(planned), "Read it back", "a plan is what is asked for, and goes there")

	for _, wrong := range []struct {
		in    []byte
		says  string
		words []string
	}{
		{nil, "nothing came on standard input", []string{"convert", "-", "./a.qcow2"}},
		{nil, "add --as FORMAT", []string{"convert", "./ticketing.raw", "-"}},
		{nil, "several files", []string{"convert", "./ticketing.raw", "-", "--as", "vmdk", "--layout", "split-sparse", "--piece-size", "8M"}},
	} {
		out, notes, err := run(wrong.in, wrong.words...)
		require.Error(t, err, wrong.words)
		assert.Empty(t, out, wrong.words)
		assert.Contains(t, notes, wrong.says, wrong.words)
	}
	left, err := os.ReadDir(between)
	require.NoError(t, err)
	assert.Empty(t, left)
}
