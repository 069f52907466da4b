package libvirt

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"

	"bagaglio/core/host"
)

// Of the protocol over TLS: the port that a daemon listens on, and the byte by which it says that it lets the client in (its own documentation
// of remote access).
const (
	tlsPort  = "16514"
	tlsLetIn = 1
)

// Where the daemon's clients have their keys, unless the address says another folder: files of PEM.
const (
	pkiFolder  = "/etc/pki"
	authority  = "CA/cacert.pem"
	clientCert = "libvirt/clientcert.pem"
	clientKey  = "libvirt/private/clientkey.pem"
)

// tlsAddress is what a URL like tls://lighthouse.example:16514?pki=/etc/pki says.
type tlsAddress struct{ name, address, folder string }

func parseTLS(text string) (tlsAddress, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "tls" || u.Hostname() == "" || u.Path != "" {
		return tlsAddress{}, fmt.Errorf(
			"%q is no address of a daemon: name it like tls://lighthouse.example (--machines), or its socket (--socket)",
			text,
		)
	}
	a := tlsAddress{name: u.Hostname(), folder: pkiFolder}
	port := u.Port()
	if port == "" {
		port = tlsPort
	}
	a.address = net.JoinHostPort(a.name, port)
	for key, values := range u.Query() {
		if key != "pki" || !path.IsAbs(values[0]) {
			return a, fmt.Errorf("%q says %q: what can be said is the folder with keys, pki=/etc/pki", text, key)
		}
		a.folder = values[0]
	}
	return a, nil
}

// dial connects, and waits until the daemon lets us in. Both show certificates of one authority.
func (a tlsAddress) dial(ctx context.Context) (net.Conn, error) {
	text, err := os.ReadFile(filepath.Join(a.folder, authority))
	if err != nil {
		return nil, fmt.Errorf("reading the certificate of the authority that the daemon is known by: %w", err)
	}
	known := x509.NewCertPool()
	if !known.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s has no certificate", filepath.Join(a.folder, authority))
	}
	own, err := tls.LoadX509KeyPair(filepath.Join(a.folder, clientCert), filepath.Join(a.folder, clientKey))
	if err != nil {
		return nil, fmt.Errorf("reading the certificate that the daemon knows us by: %w", err)
	}
	d := tls.Dialer{
		Config: &tls.Config{ServerName: a.name, RootCAs: known, Certificates: []tls.Certificate{own}, MinVersion: tls.VersionTLS12},
	}
	conn, err := d.DialContext(ctx, "tcp", a.address)
	if err != nil {
		return nil, fmt.Errorf("%w: connecting to %s: %w", host.ErrGone, a.address, err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // it waits no longer
	defer stop()
	answer := make([]byte, 1)
	if _, err := conn.Read(answer); err != nil || answer[0] != tlsLetIn {
		return nil, errors.Join(
			fmt.Errorf("%w: %s does not let us in with the certificate in %s", host.ErrRefused, a.address, a.folder),
			err,
			conn.Close(),
		)
	}
	return conn, nil
}
