package all

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/host"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// authority signs certificates, and keeps them in a folder as the daemon's clients have them.
type authority struct {
	t    *testing.T
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	dir  string
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{t: t, dir: t.TempDir()}
	for dir := a.dir; dir != "/" && dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755), "the daemon reads in it too")
	}
	a.key = newKey(t)
	a.cert = &x509.Certificate{
		SerialNumber: big.NewInt(
			1,
		),
		Subject:               pkix.Name{CommonName: "Isola Ferries"},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	a.sign(a.cert, a.key, "CA/cacert.pem", "")
	return a
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

// sign makes a certificate, and keeps it and its key.
func (a *authority) sign(c *x509.Certificate, key *ecdsa.PrivateKey, cert, private string) {
	a.t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, c, a.cert, &key.PublicKey, a.key)
	require.NoError(a.t, err)
	a.keep(cert, "CERTIFICATE", der)
	if private == "" {
		return
	}
	der, err = x509.MarshalPKCS8PrivateKey(key)
	require.NoError(a.t, err)
	a.keep(private, "PRIVATE KEY", der)
}

func (a *authority) keep(name, kind string, der []byte) {
	a.t.Helper()
	at := filepath.Join(a.dir, name)
	require.NoError(a.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(a.t, os.WriteFile(at, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o644))
}

// leaf is a certificate of a server at 127.0.0.1, or of a client.
func (a *authority) leaf(use x509.ExtKeyUsage, cert, private string) {
	a.t.Helper()
	a.sign(&x509.Certificate{
		SerialNumber: big.NewInt(int64(2 + use)),
		Subject:      pkix.Name{CommonName: "127.0.0.1"},
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().
			Add(-time.Hour),
		NotAfter:    time.Now().Add(time.Hour),
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
		ExtKeyUsage: []x509.ExtKeyUsage{use},
	}, newKey(a.t), cert, private)
}

// TestADaemonOverTLS: it is reached where both know each other by one authority, and nobody else is let in.
func TestADaemonOverTLS(t *testing.T) {
	a := newAuthority(t)
	a.leaf(x509.ExtKeyUsageServerAuth, "servercert.pem", "serverkey.pem")
	a.leaf(x509.ExtKeyUsageClientAuth, "libvirt/clientcert.pem", "libvirt/private/clientkey.pem")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close())
	config := filepath.Join(a.dir, "daemon.conf")
	require.NoError(
		t,
		os.WriteFile(config, fmt.Appendf(nil, "listen_tls = 1\nlisten_tcp = 0\nlisten_addr = \"127.0.0.1\"\ntls_port = \"%s\"\n"+
			"key_file = \"%[2]s/serverkey.pem\"\ncert_file = \"%[2]s/servercert.pem\"\nca_file = \"%[2]s/CA/cacert.pem\"\n", port, a.dir), 0o644),
	)
	d := daemon.Start(t, "--listen", "--config", config)
	d.Guest(t, "ticketing", true)
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	address := host.Address{URL: "tls://127.0.0.1:" + port + "?pki=" + a.dir}
	require.NoError(t, kind.Check(address))
	h, err := kind.Open(t.Context(), address)
	require.NoError(t, err)
	all, err := h.Machines(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "ticketing", all[0].Name)
	require.NoError(t, h.Close())

	stranger := newAuthority(t)
	stranger.leaf(x509.ExtKeyUsageClientAuth, "libvirt/clientcert.pem", "libvirt/private/clientkey.pem")
	_, err = kind.Open(t.Context(), host.Address{URL: "tls://127.0.0.1:" + port + "?pki=" + stranger.dir})
	require.ErrorContains(t, err, "certificate", "the daemon is not one that it knows")
	known, err := os.ReadFile(filepath.Join(a.dir, "CA/cacert.pem"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(stranger.dir, "CA/cacert.pem"), known, 0o644))
	_, err = kind.Open(t.Context(), host.Address{URL: "tls://127.0.0.1:" + port + "?pki=" + stranger.dir})
	require.ErrorIs(t, err, host.ErrRefused, "and the daemon does not know us")
	for _, wrong := range []string{"http://quay.example", "tls://", "tls://quay.example/x", "tls://quay.example?pki=x", "tls://quay.example?key=/x"} {
		require.Error(t, kind.Check(host.Address{URL: wrong}), wrong)
	}
}
