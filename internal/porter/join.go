// Package porter is the computer near storage that works for a service: it connects there, lets the service reach its files, and does jobs.
package porter

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage/local"
	"bagaglio/internal/authority"
	"bagaglio/internal/door"
	"bagaglio/internal/porters"
)

// Files in the folder of a porter.
const (
	identityFile = "porter.json"
	keyFile      = "porter.key"
	renewBefore  = 30 * 24 * time.Hour // the end of the certificate
	joinIn       = 30 * time.Second
	maxAnswer    = 1 << 20
)

// Identity is who a porter is, as it is kept in its folder.
type Identity struct {
	Porter      string `json:"porter"`
	Service     string `json:"service"`     // host:port
	Certificate string `json:"certificate"` // in PEM
	Authority   string `json:"authority"`   // likewise: of the service
	Engine      string `json:"engine"`      // what is shown to the engine

	state string
	key   *ecdsa.PrivateKey
	mu    sync.Mutex // of the certificate, which is renewed
}

// Join has a porter join a service at an address, host:port or https://host:port, with the invitation in a file. What it is from then on is kept in the folder state. The address that the
// invitation names is taken where none is given.
func Join(ctx context.Context, state, address, invitation string) (*Identity, error) {
	text, err := os.ReadFile(invitation)
	if err != nil {
		return nil, fmt.Errorf("reading the invitation: %w", err)
	}
	var i porters.Invitation
	if err := json.Unmarshal(text, &i); err != nil {
		return nil, fmt.Errorf("%s is no invitation: make one with bagaglio porter invite NAME > FILE: %w", invitation, err)
	}
	if _, err := os.Stat(filepath.Join(state, identityFile)); err == nil {
		return nil, fmt.Errorf("%s has joined already: start it without an invitation, or give another folder (--state)", state)
	}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	id := &Identity{Service: hostPort(address), Authority: i.Authority, state: state}
	if id.Service == "" {
		id.Service = i.Listens
	}
	if id.key, err = newKey(state); err != nil {
		return nil, err
	}
	d, err := door.OpenInside(state)
	if err != nil {
		return nil, err
	}
	public, err := x509.MarshalPKIXPublicKey(id.key.Public())
	if err != nil {
		return nil, err
	}
	j := porters.Joining{
		Secret:  i.Secret,
		Key:     string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})),
		HostKey: d.Fingerprint,
	}
	joined, err := id.ask(ctx, "/v1/join", j)
	if err != nil {
		return nil, fmt.Errorf("joining the service at %s: %w", id.Service, err)
	}
	id.Porter, id.Certificate, id.Engine = joined.Porter, joined.Certificate, joined.Engine
	return id, id.keep()
}

// hostPort is the address in a URL.
func hostPort(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Host
	}
	return strings.TrimSuffix(address, "/")
}

// newKey makes the key of a porter, which never leaves its folder.
func newKey(state string) (*ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	b, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, local.WriteFile(filepath.Join(state, keyFile), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b}))
}

// Load reads who a porter is that has joined.
func Load(state string) (*Identity, error) {
	text, err := os.ReadFile(filepath.Join(state, identityFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf(
			"%s has joined no service: give it an invitation (bagaglio porter invite NAME there, and then --invitation FILE here)",
			state,
		)
	}
	if err != nil {
		return nil, err
	}
	id := &Identity{state: state}
	if err := json.Unmarshal(text, id); err != nil {
		return nil, fmt.Errorf("reading who the porter is in %s: %w", state, err)
	}
	text, err = os.ReadFile(filepath.Join(state, keyFile))
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s has no key", filepath.Join(state, keyFile))
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	private, ok := key.(*ecdsa.PrivateKey)
	if !ok {
		return nil, fmt.Errorf("the key in %s is none that a porter has made", filepath.Join(state, keyFile))
	}
	id.key = private
	return id, nil
}

// FindAt has the porter look for the service at another address from now on, HOST:PORT or a URL. What answers there is known by the same authority.
func (id *Identity) FindAt(address string) error {
	id.mu.Lock()
	defer id.mu.Unlock()
	id.Service = hostPort(address)
	return id.keep()
}

// keep writes who the porter is.
func (id *Identity) keep() error {
	b, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return err
	}
	return local.WriteFile(filepath.Join(id.state, identityFile), append(b, '\n'))
}

// certificate is the present one, in PEM.
func (id *Identity) certificate() string {
	id.mu.Lock()
	defer id.mu.Unlock()
	return id.Certificate
}

// config is what a porter shows to the service, and knows it by.
func (id *Identity) config(protocol string) (*tls.Config, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(id.Authority)) {
		return nil, errors.New("the invitation has no authority in it")
	}
	c := &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: roots, ServerName: authority.ServiceName, NextProtos: []string{protocol}}
	certificate := id.certificate()
	if certificate == "" {
		return c, nil
	}
	block, _ := pem.Decode([]byte(certificate))
	if block == nil {
		return nil, errors.New("the porter has no certificate")
	}
	c.Certificates = []tls.Certificate{{Certificate: [][]byte{block.Bytes}, PrivateKey: id.key}}
	return c, nil
}

// ask asks the service for a certificate.
func (id *Identity) ask(ctx context.Context, path string, what any) (j porters.Joined, err error) {
	ctx, cancel := context.WithTimeout(ctx, joinIn)
	defer cancel()
	b, err := json.Marshal(what)
	if err != nil {
		return j, err
	}
	config, err := id.config(porters.ProtocolJoin)
	if err != nil {
		return j, err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+id.Service+path, bytes.NewReader(b))
	if err != nil {
		return j, err
	}
	answer, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: config, DisableKeepAlives: true}}).Do(q)
	if err != nil {
		return j, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	if err != nil {
		return j, err
	}
	if answer.StatusCode != http.StatusOK {
		return j, errors.New(strings.TrimSpace(string(text)))
	}
	return j, json.Unmarshal(text, &j)
}

// renew gets another certificate where the present one ends soon.
func (id *Identity) renew(ctx context.Context) error {
	block, _ := pem.Decode([]byte(id.certificate()))
	if block == nil {
		return errors.New("the porter has no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil || time.Until(c.NotAfter) > renewBefore {
		return err
	}
	j, err := id.ask(ctx, "/v1/renew", struct{}{})
	if err != nil {
		return fmt.Errorf("renewing the certificate: %w", err)
	}
	id.mu.Lock()
	defer id.mu.Unlock()
	id.Certificate = j.Certificate
	return id.keep()
}
