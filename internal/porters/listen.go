package porters

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/authority"
	"bagaglio/internal/places"
	"bagaglio/internal/store"

	"golang.org/x/net/netutil"
)

// What a porter wants of a connection, as it says when that is secured (RFC 7301).
const (
	ProtocolJoin    = "http/1.1"          // to join, or to have its certificate renewed
	ProtocolLine    = "bagaglio-line/1"   // to be reached: SSH, of which the porter is the server
	ProtocolEngine  = "bagaglio-engine/1" // the engine
	handshakeIn     = 10 * time.Second    // for whoever connects
	maxJoin         = 64 << 10            // bytes of what a porter joins with
	mostConnections = 2048                // of all porters
	spareLines      = 4                   // of a porter that wait to be used
	lineIn          = 5 * time.Second     // for which one is waited
)

// line is a connection over which a porter can be reached. The porter says nothing before it is used.
type line struct {
	net.Conn
	in     *bufio.Reader
	heard  chan struct{} // closed when something came, or it has ended
	err    error         // why it has ended before anything came
	closed func()
}

func newLine(conn net.Conn, closed func()) *line {
	l := &line{Conn: conn, in: bufio.NewReader(conn), heard: make(chan struct{}), closed: closed}
	go func() {
		if _, l.err = l.in.Peek(1); l.err != nil {
			_ = l.Close() // it is of no use
		}
		close(l.heard)
	}()
	return l
}

func (l *line) Read(p []byte) (int, error) {
	<-l.heard
	if l.err != nil {
		return 0, l.err
	}
	return l.in.Read(p)
}

func (l *line) Close() error {
	l.closed()
	return l.Conn.Close()
}

// hasEnded tells whether a line that was not used has ended.
func (l *line) hasEnded() bool {
	select {
	case <-l.heard:
		return l.err != nil
	default:
		return false
	}
}

// listen listens to porters.
func (s *Porters) listen() error {
	alive := net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second, Interval: 5 * time.Second, Count: 3} // a porter may go without a word
	l, err := (&net.ListenConfig{KeepAliveConfig: alive}).Listen(context.Background(), "tcp", s.options.Listen)
	if err != nil {
		return fmt.Errorf("listening to porters: %w", err)
	}
	host, _, _ := net.SplitHostPort(l.Addr().String()) // which has one
	config := s.authority.Serve([]string{host, authority.ServiceName})
	config.MinVersion, config.NextProtos = tls.VersionTLS13, []string{ProtocolLine, ProtocolEngine, ProtocolJoin}
	config.ClientAuth, config.ClientCAs = tls.VerifyClientCertIfGiven, s.authority.Roots()
	join := newHall(l.Addr())
	s.mu.Lock()
	s.address = l.Addr().String()
	s.mu.Unlock()
	s.listener = closers{l, join}
	l = netutil.LimitListener(l, mostConnections)
	routes := http.NewServeMux()
	routes.HandleFunc("POST /v1/join", s.join)
	routes.HandleFunc("POST /v1/renew", s.renew)
	server := &http.Server{Handler: routes, ReadHeaderTimeout: handshakeIn, ReadTimeout: handshakeIn, MaxHeaderBytes: maxJoin}
	go func() { _ = server.Serve(join) }() // until the hall is closed
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return // it is closed
			}
			go s.welcome(tls.Server(conn, config), join)
		}
	}()
	s.log.Info("listening to porters", "address", s.address)
	return nil
}

// closers are closed together.
type closers []io.Closer

func (c closers) Close() (err error) {
	for _, one := range c {
		err = errors.Join(err, one.Close())
	}
	return err
}

// hall is a listener of connections that were checked already.
type hall struct {
	addr  net.Addr
	conns chan net.Conn
	done  context.Context
	end   context.CancelFunc
}

func newHall(addr net.Addr) *hall {
	done, end := context.WithCancel(context.Background())
	return &hall{addr, make(chan net.Conn), done, end}
}

func (h *hall) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.done.Done():
		return nil, net.ErrClosed
	}
}

func (h *hall) Close() error   { h.end(); return nil }
func (h *hall) Addr() net.Addr { return h.addr }

// welcome finds out who has connected, and what for.
func (s *Porters) welcome(conn *tls.Conn, join *hall) {
	ctx, cancel := context.WithTimeout(context.Background(), handshakeIn)
	defer cancel()
	if err := conn.HandshakeContext(ctx); err != nil {
		_ = conn.Close() // it is nobody that we know
		return
	}
	state := conn.ConnectionState()
	if state.NegotiatedProtocol == ProtocolJoin {
		select {
		case join.conns <- conn:
		case <-join.done.Done():
			_ = conn.Close() // nobody is there any more
		}
		return
	}
	name, err := s.who(ctx, state)
	if err != nil {
		s.log.Warn("a porter was refused", "from", conn.RemoteAddr().String(), "reason", err)
		_ = conn.Close() // likewise
		return
	}
	switch state.NegotiatedProtocol {
	case ProtocolLine:
		s.addLine(name, conn)
	case ProtocolEngine:
		s.toEngine(name, conn)
	default:
		_ = conn.Close() // it wants nothing that there is
	}
}

// who is the porter that has a certificate which is still good.
func (s *Porters) who(ctx context.Context, state tls.ConnectionState) (string, error) {
	if len(state.PeerCertificates) == 0 {
		return "", errors.New("it shows no certificate")
	}
	c := state.PeerCertificates[0]
	name := c.Subject.CommonName
	p, err := s.records.Porter(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return "", fmt.Errorf("%s is no porter any more", storage.Printable(name))
	case err != nil:
		return "", err
	case p.Key != KeyHash(c):
		return "", fmt.Errorf("%s joined with another key", name)
	}
	return name, nil
}

// KeyHash is what a porter's key is known by: the SHA-256 of the public key of its certificate.
func KeyHash(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}

// note keeps a connection of a porter, to be closed with it, and returns what forgets it.
func (s *Porters) note(name string, c io.Closer) (forget func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[name] == nil {
		s.open[name] = map[io.Closer]struct{}{}
	}
	s.open[name][c] = struct{}{}
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.open[name], c)
	}
}

// addLine keeps a connection over which a porter can be reached. Where there are enough already, the oldest goes.
func (s *Porters) addLine(name string, conn *tls.Conn) {
	l := newLine(conn, s.note(name, conn))
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lines[name] == nil {
		s.lines[name] = make(chan *line, spareLines)
	}
	for {
		select {
		case s.lines[name] <- l:
			return
		default:
		}
		select {
		case old := <-s.lines[name]:
			go old.Close()
		default:
		}
	}
}

// Dial reaches a porter over a connection that it has made.
func (s *Porters) Dial(ctx context.Context, name string) (net.Conn, error) {
	s.mu.Lock()
	if s.lines[name] == nil {
		s.lines[name] = make(chan *line, spareLines)
	}
	lines := s.lines[name]
	s.mu.Unlock()
	wait := time.NewTimer(lineIn)
	defer wait.Stop()
	for {
		select {
		case l := <-lines:
			if !l.hasEnded() {
				return l, nil
			}
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-wait.C:
			return nil, fmt.Errorf("%w: the porter %s is not connected: look whether it runs there", storage.ErrLost, name)
		}
	}
}

// Joining is what a porter sends to join: its invitation, its public key in PEM, and the fingerprint of the SSH key that it shows on lines.
type Joining struct {
	Secret  string `json:"secret"`
	Key     string `json:"key"`
	HostKey string `json:"host_key"`
}

// Joined is what it gets.
type Joined struct {
	Porter      string `json:"porter"`
	Certificate string `json:"certificate"` // in PEM
	Engine      string `json:"engine"`      // what it shows to the engine
}

// join lets a porter join that was invited.
func (s *Porters) join(w http.ResponseWriter, r *http.Request) {
	var j Joining
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxJoin)).Decode(&j); err != nil {
		http.Error(w, "what was sent cannot be read", http.StatusBadRequest)
		return
	}
	block, _ := pem.Decode([]byte(j.Key))
	if block == nil {
		http.Error(w, "there is no public key in PEM", http.StatusBadRequest)
		return
	}
	public, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		http.Error(w, "the public key cannot be read", http.StatusBadRequest)
		return
	}
	engine, err := newSecret()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	sum := sha256.Sum256(block.Bytes)
	now := time.Now()
	p, err := s.records.JoinPorter(r.Context(), hashOf(j.Secret), hex.EncodeToString(sum[:]), hashOf(engine), now.Add(-InvitedFor), now)
	if errors.Is(err, store.ErrNotFound) {
		http.Error(
			w,
			"the invitation is not good any more: it was used already, or is older than a day; make another one (bagaglio porter invite)",
			http.StatusForbidden,
		)
		return
	}
	var certificate []byte
	if err == nil {
		certificate, err = s.authority.Certify(p.Name, public)
	}
	if err == nil {
		err = s.addHost(r.Context(), p.Name, j.HostKey)
	}
	if err != nil {
		s.log.Error("letting a porter join", "porter", p.Name, "error", err)
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	s.log.Info("a porter joined", "porter", p.Name, "from", r.RemoteAddr)
	s.records.Note(p.Name, r.RemoteAddr, "joined as a porter", p.Name, "")
	_ = json.NewEncoder(w).Encode(Joined{p.Name, string(certificate), engine}) // it is gone otherwise
}

// addHost makes a porter a host, or trusts its new key where it has been one.
func (s *Porters) addHost(ctx context.Context, name, hostKey string) error {
	user := sftp.Porter
	change := places.HostChange{Address: &name, User: &user, TrustedKey: &hostKey}
	_, err := s.places.Host(ctx, name)
	if err == nil {
		_, err = s.places.ChangeHost(ctx, name, change)
		return err
	}
	_, err = s.places.AddHost(ctx, name, sftp.Porter, change)
	return err
}

// renew gives a porter that has a good certificate another one.
func (s *Porters) renew(w http.ResponseWriter, r *http.Request) {
	name, err := s.who(r.Context(), *r.TLS)
	if err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	certificate, err := s.authority.Certify(name, r.TLS.PeerCertificates[0].PublicKey)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	_ = json.NewEncoder(w).Encode(Joined{Porter: name, Certificate: string(certificate)}) // likewise
}
