package porter

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"bagaglio/core/storage"
	"bagaglio/internal/errand"
)

// carry takes what one porter says to another one, which do not reach each other, through this one (CONNECT: RFC 9110, 9.3.6). They speak TLS with each other inside of that:
// who carries sees nothing of it.
func (p *Porter) carry(w http.ResponseWriter, r *http.Request) {
	peer := nameOf(r.TLS)
	if !p.may(errand.Granted{Peer: peer, Carry: r.Host}) {
		http.Error(w, "nothing is carried there for "+storage.Printable(peer), http.StatusForbidden)
		return
	}
	there, err := (&net.Dialer{Timeout: reachIn}).DialContext(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer there.Close()
	here, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer here.Close()
	if _, err := io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n"); err != nil {
		return // it has gone
	}
	go func() {
		_, _ = io.Copy(there, buffered) // until either of both has gone
		_ = there.Close()
	}()
	_, _ = io.Copy(here, there)
}

// dialPeer connects to where another porter is read from: through a third one, where it says so.
func (p *Porter) dialPeer(ctx context.Context, peer errand.Peer) (net.Conn, error) {
	if peer.Via == "" {
		return (&net.Dialer{Timeout: reachIn}).DialContext(ctx, "tcp", peer.Address)
	}
	config, err := p.toPeer(peer.Via)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	conn, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", peer.ViaAddress)
	if err != nil {
		return nil, fmt.Errorf("reaching the porter %s, which carries: %w", peer.Via, err)
	}
	through, err := tunnel(ctx, conn, peer)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("reaching the porter %s through %s: %w", peer.Porter, peer.Via, err), conn.Close())
	}
	return through, nil
}

// tunnel asks who carries for a connection to the other porter.
func tunnel(ctx context.Context, conn net.Conn, peer errand.Peer) (net.Conn, error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodConnect, "https://"+peer.Address, nil)
	if err != nil {
		return nil, err
	}
	if until, ok := ctx.Deadline(); ok {
		err = conn.SetDeadline(until)
	}
	if err = errors.Join(err, q.Write(conn)); err != nil {
		return nil, err
	}
	in := bufio.NewReader(conn)
	answer, err := http.ReadResponse(in, q)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close() // which is not the connection
	if answer.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, maxAnswer)) // the status says enough
		return nil, fmt.Errorf("%s: %s", answer.Status, storage.Printable(string(text)))
	}
	return &carried{conn, in}, conn.SetDeadline(time.Time{})
}

// carried is a connection of which something may have been read already.
type carried struct {
	net.Conn
	in *bufio.Reader
}

func (c *carried) Read(p []byte) (int, error) { return c.in.Read(p) }
