// Package authority is what the service proves with who it is: an authority of its own, whose certificates it makes and renews by itself, or a
// certificate that somebody gives it.
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/core/storage/local"
)

const (
	// Trusted is the file in the state folder with what clients trust: the authority, or the certificate that was given.
	Trusted = "trusted.pem"
	// TokenFile is the file there from which the client on this computer takes the token.
	TokenFile = "token"

	// ServiceName is what the service is called in certificates, whatever address it is reached at.
	ServiceName = "bagaglio"

	file    = "authority.pem"
	keyFile = "authority.key"

	authorityLasts   = 10 * 365 * 24 * time.Hour
	certificateLasts = 90 * 24 * time.Hour
	renewed          = 30 * 24 * time.Hour // before it ends
	clocksDiffer     = time.Hour           // at most, for what is made now to be valid everywhere
	typeCertificate  = "CERTIFICATE"
	typeKey          = "PRIVATE KEY"
)

// Authority makes certificates. Its key stays in the state folder.
type Authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey

	mu  sync.Mutex
	own *tls.Certificate
}

// Open takes the authority of a state folder, and makes it the first time.
func Open(state string) (*Authority, error) {
	at, key := filepath.Join(state, file), filepath.Join(state, keyFile)
	pair, err := tls.LoadX509KeyPair(at, key)
	if errors.Is(err, fs.ErrNotExist) {
		if err = create(at, key); err == nil {
			pair, err = tls.LoadX509KeyPair(at, key)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("opening the authority of the service: %w", err)
	}
	private, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok || !pair.Leaf.IsCA {
		return nil, fmt.Errorf("%s is not one that the service made: put it elsewhere", at)
	}
	return &Authority{certificate: pair.Leaf, key: private}, trust(state, pair.Leaf.Raw)
}

// trust leaves for clients what to trust.
func trust(state string, der []byte) error {
	return local.WriteFile(filepath.Join(state, Trusted), pem.EncodeToMemory(&pem.Block{Type: typeCertificate, Bytes: der}))
}

// create makes an authority; its certificate comes last, and without it there is none.
func create(certificateFile, keyFile string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now()
	whole := &x509.Certificate{
		Subject: pkix.Name{
			CommonName: "Bagaglio " + now.UTC().Format(time.DateOnly),
		},
		NotBefore:             now.Add(-clocksDiffer),
		NotAfter:              now.Add(authorityLasts),
		IsCA:                  true,
		BasicConstraintsValid: true,
		MaxPathLenZero:        true,
		KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	der, err := sign(whole, whole, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := local.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: typeKey, Bytes: private})); err != nil {
		return err
	}
	return local.WriteFile(certificateFile, pem.EncodeToMemory(&pem.Block{Type: typeCertificate, Bytes: der}))
}

// sign makes a certificate with a serial number of its own.
func sign(of, by *x509.Certificate, public any, key *ecdsa.PrivateKey) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // RFC 5280, 4.1.2.2: positive, at most 20 octets
	if err != nil {
		return nil, err
	}
	of.SerialNumber = serial
	return x509.CreateCertificate(rand.Reader, of, by, public, key)
}

// Serve returns what a server that has these names and addresses proves with who it is. Its certificate is made anew before it ends.
func (a *Authority) Serve(names []string) *tls.Config {
	return config(func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.own != nil && time.Until(a.own.Leaf.NotAfter) > renewed {
			return a.own, nil
		}
		made, err := a.server(names)
		if err == nil {
			a.own = made
		}
		return made, err
	})
}

func (a *Authority) server(names []string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	whole := &x509.Certificate{
		Subject: pkix.Name{CommonName: "Bagaglio"}, NotBefore: now.Add(-clocksDiffer), NotAfter: now.Add(certificateLasts),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			whole.IPAddresses = append(whole.IPAddresses, ip)
		} else {
			whole.DNSNames = append(whole.DNSNames, name)
		}
	}
	der, err := sign(whole, a.certificate, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der, a.certificate.Raw}, PrivateKey: key, Leaf: leaf}, err
}

// Certify makes a certificate for whoever has the private key of public, as a client and as a server of that name, and returns it in PEM.
func (a *Authority) Certify(name string, public any) ([]byte, error) {
	now := time.Now()
	der, err := sign(&x509.Certificate{
		Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: now.Add(-clocksDiffer), NotAfter: now.Add(certificateLasts),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}, a.certificate, public, a.key)
	return pem.EncodeToMemory(&pem.Block{Type: typeCertificate, Bytes: der}), err
}

// PEM is the certificate of the authority itself.
func (a *Authority) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: typeCertificate, Bytes: a.certificate.Raw})
}

// Roots are what the certificates of the authority are checked with.
func (a *Authority) Roots() *x509.CertPool {
	roots := x509.NewCertPool()
	roots.AddCert(a.certificate)
	return roots
}

// Given returns what a server proves with who it is by a certificate in files. They are read again when they have changed, so that whoever
// renews them needs to do no more. What clients of the state folder trust is left there.
func Given(state, certificate, key string) (*tls.Config, error) {
	g := &given{state: state, certificate: certificate, key: key}
	if _, err := g.get(nil); err != nil {
		return nil, err
	}
	return config(g.get), nil
}

type given struct {
	state, certificate, key string

	mu   sync.Mutex
	read time.Time // when the file was written that was read last
	pair *tls.Certificate
}

func (g *given) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	info, err := os.Stat(g.certificate)
	if err == nil && g.pair != nil && info.ModTime().Equal(g.read) {
		return g.pair, nil
	}
	var pair tls.Certificate
	if err == nil {
		pair, err = tls.LoadX509KeyPair(g.certificate, g.key)
	}
	if err == nil {
		err = trust(g.state, pair.Certificate[0])
	}
	switch {
	case err == nil:
		g.pair, g.read = &pair, info.ModTime()
	case g.pair == nil:
		return nil, fmt.Errorf("reading the certificate: %w", err)
	}
	return g.pair, nil // one that is being written is read the next time
}

func config(get func(*tls.ClientHelloInfo) (*tls.Certificate, error)) *tls.Config {
	return &tls.Config{GetCertificate: get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
}

// Trust returns what a client checks a service with, by the certificates in PEM. One that is no authority's stands for itself, whatever name
// the service is reached by.
func Trust(certificates []byte) (*tls.Config, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(certificates) {
		return nil, errors.New("there is no certificate in PEM")
	}
	block, _ := pem.Decode(certificates)
	first, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	out := &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	switch {
	case first.IsCA:
	case len(first.DNSNames) > 0:
		out.ServerName = first.DNSNames[0]
	case len(first.IPAddresses) > 0:
		out.ServerName = first.IPAddresses[0].String()
	}
	return out, nil
}
