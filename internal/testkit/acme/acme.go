// Package acme is an authority that speaks ACME (RFC 8555), for tests. It finds each name on this computer.
package acme

import (
	"encoding/pem"
	"io"
	"log"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// Authority gives certificates to whoever shows at a port that they have a name.
type Authority struct {
	Directory string // its address
	Known     string // file with the certificate of its own line
	Root      []byte // what it signs with, in PEM

	server *httptest.Server
}

// Start starts one that looks for names at that port, until the test ends.
func Start(t *testing.T, port int) *Authority {
	t.Helper()
	t.Setenv("PEBBLE_VA_NOSLEEP", "1")
	quiet := log.New(io.Discard, "", 0)
	store := db.NewMemoryStore()
	signs := ca.New(quiet, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {Description: "for tests"}})
	looks := va.New(quiet, 0, port, false, resolver(t), store)
	front := wfe.New(quiet, store, looks, signs, []string{"acme.example"}, false, false, 0, 0)
	server := httptest.NewTLSServer(front.Handler())
	t.Cleanup(server.Close)
	known := filepath.Join(t.TempDir(), "acme.pem")
	line := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	require.NoError(t, os.WriteFile(known, line, 0o600))
	return &Authority{Directory: server.URL + wfe.DirectoryPath, Known: known, Root: signs.GetRootCert(0).PEM(), server: server}
}

// Stop ends it: nobody answers any more.
func (a *Authority) Stop() { a.server.Close() }

// resolver finds every name on this computer, and returns where it answers.
func resolver(t *testing.T) string {
	t.Helper()
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{Listener: line, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, asked *dns.Msg) {
		answer := new(dns.Msg)
		answer.SetReply(asked)
		for _, q := range asked.Question {
			if q.Qtype == dns.TypeA {
				answer.Answer = append(answer.Answer, &dns.A{
					Hdr: dns.RR_Header{Name: q.Name, Rrtype: dns.TypeA, Class: dns.ClassINET}, A: net.IPv4(127, 0, 0, 1),
				})
			}
		}
		_ = w.WriteMsg(answer) // who asked has gone
	})}
	go func() { _ = server.ActivateAndServe() }() // it ends with the test
	t.Cleanup(func() { _ = line.Close() })
	return line.Addr().String()
}
