package attack

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/internal/authority"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/acme"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNobodyReadsAlong: other computers are answered with encryption only, unless that is said to be meant.
func TestNobodyReadsAlong(t *testing.T) {
	t.Parallel()
	state := t.TempDir()
	out, err := exec.CommandContext(t.Context(), testkit.Binary(t), "serve", "--listen", "0.0.0.0:0", "--state", state).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "could read tokens, and disks, along: encrypt with --own-authority")
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--listen", "0.0.0.0:0", "--in-the-clear")
	assert.True(t, strings.HasPrefix(s.Address, "http://localhost:"))
	_, err = s.Hosts(t.Context())
	require.NoError(t, err)
}

// TestTheServiceIsKnownByItsAuthority, which it makes once; nobody else takes it to be the service, and browsers keep its cookies for encrypted lines.
func TestTheServiceIsKnownByItsAuthority(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state, "--listen", "0.0.0.0:0", "--own-authority", "--name", "quay.example")
	require.True(t, strings.HasPrefix(s.Address, "https://localhost:"), s.Address)
	_, err := s.Hosts(t.Context())
	require.NoError(t, err)
	run := func(args ...string) string {
		cmd := exec.CommandContext(t.Context(), testkit.Binary(t), args...)
		cmd.Env = append(os.Environ(), "BAGAGLIO_TOKEN="+s.Token)
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, string(out))
		return string(out)
	}
	assert.Contains(t, run("pool", "list", "--state", state), "POOL", "it finds what to trust in the state folder")
	assert.Contains(
		t,
		run("pool", "list", "--state", t.TempDir(), "--address", s.Address, "--authority", filepath.Join(state, authority.Trusted)),
		"POOL",
	)

	type answer struct {
		status int
		header http.Header
		names  []string // of the certificate
	}
	ask := func(c *http.Client, address string) (a answer, err error) {
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
		require.NoError(t, err)
		r, err := c.Do(q)
		if err != nil {
			return a, err
		}
		if r.TLS != nil {
			a.names = r.TLS.PeerCertificates[0].DNSNames
		}
		a.status, a.header = r.StatusCode, r.Header
		return a, r.Body.Close()
	}
	_, err = ask(http.DefaultClient, s.Address)
	require.ErrorContains(t, err, "certificate", "it is not known to everybody")
	r, err := ask(http.DefaultClient, strings.Replace(s.Address, "https:", "http:", 1))
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, r.status)
	stays := s.HTTP()
	stays.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	r, err = ask(stays, s.Link)
	require.NoError(t, err)
	cookie, err := http.ParseSetCookie(r.header.Get("Set-Cookie"))
	require.NoError(t, err)
	assert.True(t, cookie.Secure)
	assert.NotEmpty(t, r.header.Get("Strict-Transport-Security"))
	info, err := os.Stat(filepath.Join(state, "authority.key"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	known := s.HTTP()
	s.Stop()
	s = testkit.Start(t, state, "--listen", strings.TrimPrefix(s.Address, "https://"), "--own-authority", "--name", "quay.example")
	r, err = ask(known, s.Address)
	require.NoError(t, err, "it is the same after a restart")
	assert.Contains(t, r.names, "quay.example")
}

// TestACertificateIsReadAgain when it has changed, and goes on to be used while what is in its place is none.
func TestACertificateIsReadAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "quay.pem"), filepath.Join(dir, "quay.key")
	testkit.Certificate(t, certificate, key, "quay.example")
	s := testkit.Start(t, filepath.Join(dir, "state"), "--certificate", certificate, "--key", key)
	serial := func() string {
		t.Helper()
		conn, err := (&tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}}).DialContext(
			t.Context(),
			"tcp",
			strings.TrimPrefix(s.Address, "https://"),
		)
		require.NoError(t, err)
		defer conn.Close()
		return conn.(*tls.Conn).ConnectionState().PeerCertificates[0].SerialNumber.String()
	}
	_, err := s.Hosts(t.Context())
	require.NoError(t, err)
	first := serial()
	require.NoError(t, os.WriteFile(certificate, []byte("half of"), 0o600))
	assert.Equal(t, first, serial())
	testkit.Certificate(t, certificate, key, "quay.example")
	later := time.Now().Add(time.Minute)
	require.NoError(t, os.Chtimes(certificate, later, later))
	assert.NotEqual(t, first, serial())
	out, err := exec.CommandContext(t.Context(), testkit.Binary(t), "pool", "list", "--state", s.State).CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = exec.CommandContext(t.Context(), testkit.Binary(t), "serve", "--state", t.TempDir(), "--certificate", key, "--key", key).
		CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "reading the certificate")
}

// TestACertificateOverACME: for its name the service has a certificate of an authority elsewhere, also after a restart when that is gone; for its own
// computer, and where the authority gives none, it has one of its own. A name that is not its own is not asked for there.
func TestACertificateOverACME(t *testing.T) {
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := line.Addr().String()
	require.NoError(t, line.Close())
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	number, err := strconv.Atoi(port)
	require.NoError(t, err)
	elsewhere := acme.Start(t, number)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(elsewhere.Root))

	state := filepath.Join(t.TempDir(), "state")
	flags := []string{
		"--listen", "0.0.0.0:" + port, "--acme", elsewhere.Directory, "--acme-contact", "crew@quay.example",
		"--name", "Bagaglio.quay.example", "--name", "pier.quay.example",
	}
	out, err := exec.CommandContext(t.Context(), testkit.Binary(t), append([]string{"serve", "--state", state}, flags[:4]...)...).
		CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "say by --name how the service is reached")

	s := testkit.StartBinary(t, testkit.Binary(t), []string{"SSL_CERT_FILE=" + elsewhere.Known}, state, flags...)
	_, err = s.Hosts(t.Context())
	require.NoError(t, err, "from its own computer it is known by its own authority")
	knows := func(name string, check *tls.Config) error {
		check.ServerName = name
		conn, err := (&tls.Dialer{Config: check}).DialContext(t.Context(), "tcp", address)
		if err == nil {
			err = conn.Close()
		}
		return err
	}
	require.NoError(t, knows("bagaglio.quay.example", &tls.Config{RootCAs: roots}))
	require.ErrorContains(t, knows("other.quay.example", &tls.Config{RootCAs: roots}), "certificate", "for no other name")

	elsewhere.Stop()
	s.Stop()
	s = testkit.StartBinary(t, testkit.Binary(t), nil, state, flags...)
	require.NoError(t, knows("bagaglio.quay.example", &tls.Config{RootCAs: roots}), "it was kept")
	own, err := os.ReadFile(filepath.Join(state, authority.Trusted))
	require.NoError(t, err)
	check, err := authority.Trust(own)
	require.NoError(t, err)
	require.NoError(t, knows("pier.quay.example", check), "nobody gives one: it goes on with its own")
	s.Stop()
	assert.Contains(t, s.Notes(), "getting a certificate")

	// One that says nothing at all keeps nobody waiting for long.
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = silent.Close() })
	flags[3] = "https://" + silent.Addr().String() + "/dir"
	s = testkit.StartBinary(t, testkit.Binary(t), nil, state, flags...)
	require.NoError(t, knows("pier.quay.example", check))
	s.Stop()
	assert.Contains(t, s.Notes(), "did not answer within")
}
