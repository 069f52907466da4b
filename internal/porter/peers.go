package porter

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage"
	storagehttp "bagaglio/core/storage/http"
	"bagaglio/core/storage/local"
	"bagaglio/internal/errand"

	"github.com/nats-io/nats.go"
)

// reachIn is for how long another porter is waited for.
const reachIn = 5 * time.Second

// grants are which other porters may read which folders, and until when.
type grants struct {
	sync.Mutex
	until map[errand.Granted]time.Time
}

// granted lets another porter read a folder for some time, as the service says.
func (p *Porter) granted(m *nats.Msg) {
	var g errand.Granted
	if err := json.Unmarshal(m.Data, &g); err != nil {
		p.log.Error("a grant that cannot be read", "error", err)
		return
	}
	p.grants.Lock()
	defer p.grants.Unlock()
	until := time.Now().Add(g.For)
	g.For = 0
	if p.grants.until == nil {
		p.grants.until = map[errand.Granted]time.Time{}
	}
	p.grants.until[g] = until
	_ = m.Respond([]byte("{}")) // it says so again
}

// may tells whether another porter may do something now.
func (p *Porter) may(what errand.Granted) bool {
	p.grants.Lock()
	defer p.grants.Unlock()
	return time.Now().Before(p.grants.until[what])
}

// below is where a folder is served to other porters; used is whether files of it are that are written to.
func below(folder string, used bool) string {
	at := base64.RawURLEncoding.EncodeToString([]byte(folder))
	if used {
		at = usedPrefix + at
	}
	return "/" + at
}

// usedPrefix is none that the text of a folder begins with.
const usedPrefix = "~"

// unwatched is a folder of which files are given out that other programs write to.
type unwatched struct{ storage.Folder }

// serve lets other porters read, each what it may.
func (p *Porter) serve(ctx context.Context, address string) error {
	config, err := p.id.config("http/1.1")
	if err != nil {
		return err
	}
	config.ClientAuth, config.ClientCAs = tls.RequireAndVerifyClientCert, config.RootCAs
	config.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) { // that it has now
		now, err := p.id.config("http/1.1")
		if err != nil {
			return nil, err
		}
		return &now.Certificates[0], nil
	}
	config.Certificates = nil
	host, _, err := net.SplitHostPort(address)
	if err != nil || host == "" {
		return fmt.Errorf("%q is no address that other porters reach this one at: write HOST:PORT", address)
	}
	l, err := tls.Listen("tcp", address, config)
	if err != nil {
		return fmt.Errorf("listening to other porters: %w", err)
	}
	_, port, err := net.SplitHostPort(l.Addr().String()) // which may have been left open
	if err != nil {
		return errors.Join(err, l.Close())
	}
	p.peers = net.JoinHostPort(host, port)
	server := &http.Server{
		Handler:           http.HandlerFunc(p.read),
		ReadHeaderTimeout: dialIn,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    maxAnswer,
	}
	context.AfterFunc(ctx, func() { _ = server.Close() })
	go func() { _ = server.Serve(l) }() // until then
	return nil
}

// read lets another porter read a folder that it may.
func (p *Porter) read(w http.ResponseWriter, r *http.Request) {
	peer := nameOf(r.TLS)
	if r.Method == http.MethodConnect {
		p.carry(w, r)
		return
	}
	if r.URL.Path == speedPath {
		_, _ = w.Write(make([]byte, measured)) // until whoever measures has enough
		return
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	text, used := strings.CutPrefix(first, usedPrefix)
	folder, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || !p.may(errand.Granted{Peer: peer, Folder: string(folder), Used: used}) {
		http.Error(w, "that may not be read by "+storage.Printable(peer), http.StatusForbidden)
		return
	}
	at, err := local.OpenApart(string(folder), local.Keep(p.id.state))
	if err != nil {
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
		return
	}
	defer at.Close()
	var given storage.Folder = at
	if used {
		given = unwatched{at}
	}
	storagehttp.Handler(below(string(folder), used), given).ServeHTTP(w, r)
}

// nameOf is who has shown a certificate.
func nameOf(state *tls.ConnectionState) string {
	if state == nil || len(state.PeerCertificates) == 0 {
		return ""
	}
	return state.PeerCertificates[0].Subject.CommonName
}

// toPeer is what another porter is shown, and known by.
func (p *Porter) toPeer(peer string) (*tls.Config, error) {
	config, err := p.id.config("http/1.1")
	if err != nil {
		return nil, err
	}
	config.ServerName = peer
	config.VerifyConnection = func(s tls.ConnectionState) error {
		if nameOf(&s) != peer {
			return x509.HostnameError{Certificate: s.PeerCertificates[0], Host: peer}
		}
		return nil
	}
	return config, nil
}

// from opens a folder of another porter; used is whether with files that are written to.
func (p *Porter) from(peer errand.Peer, folder string, used bool) (storage.Folder, error) {
	config, err := p.toPeer(peer.Porter)
	if err != nil {
		return nil, err
	}
	packs := peer.Speed > 0 && peer.Speed < packBelow
	return storagehttp.Open(storagehttp.Login{
		URL: "https://" + peer.Address + below(folder, used), TLS: config, Pack: packs, Used: used,
		Dial: func(ctx context.Context) (net.Conn, error) { return p.dialPeer(ctx, peer) },
	})
}

// What is read to measure a line: so many bytes at most, for as long at most, and not what comes before it is warm.
const (
	speedPath = "/speed"
	measured  = 64 << 20
	warm      = 100 * time.Millisecond
	measuring = 400 * time.Millisecond
)

// reaches says whether another porter can be reached, and how fast it is read from.
func (p *Porter) reaches(m *nats.Msg) {
	var peer errand.Peer
	err := json.Unmarshal(m.Data, &peer)
	if err == nil {
		peer.Speed, err = p.speedOf(peer)
	}
	b, jsonErr := json.Marshal(errand.Answer[errand.Peer]{Value: peer, Problem: errand.ProblemOf(err)})
	if err := errors.Join(jsonErr, m.Respond(b)); err != nil {
		p.log.Error("saying which porters can be reached", "error", err)
	}
}

// packBelow is the speed of a line, in bytes a second, below which what goes over it is packed: a processor packs that much in the time.
const packBelow = 100e6

// speedOf measures how fast another porter is read from, in bytes a second.
func (p *Porter) speedOf(peer errand.Peer) (float64, error) {
	config, err := p.toPeer(peer.Porter)
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), reachIn)
	defer cancel()
	client := &http.Client{Transport: &http.Transport{
		TLSClientConfig: config, DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return p.dialPeer(ctx, peer) },
	}}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+peer.Address+speedPath, nil)
	if err != nil {
		return 0, err
	}
	answer, err := client.Do(q)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	begun, n := time.Now(), int64(0)
	var since time.Time // when it was warm
	for chunk := make([]byte, 64<<10); time.Since(begun) < measuring; {
		k, err := answer.Body.Read(chunk)
		if since.IsZero() && time.Since(begun) > warm {
			since = time.Now()
		} else if !since.IsZero() {
			n += int64(k)
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return 0, err
		}
	}
	if since.IsZero() || n == 0 { // all of it came before
		return measured / time.Since(begun).Seconds(), nil
	}
	return float64(n) / time.Since(since).Seconds(), nil
}
