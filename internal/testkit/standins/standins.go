// Package standins starts simulated hosts of machines for tests, with a key of their own for who reaches their files.
package standins

import (
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/internal/bootcode"
	"bagaglio/internal/door"
	"bagaglio/internal/standin"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Host is a stand-in that runs until the test ends.
type Host struct {
	*standin.Host
	URL     string // of its API
	Folder  string // that the disks of its machines lie in
	Files   string // address of its files
	Key     string // private, of who may reach them
	HostKey string // fingerprint
	State   string // the folder with its inventory
	server  *httptest.Server
	line    atomic.Int32
}

// What becomes of requests to its API.
const (
	Arrive   = iota
	Lost     // nobody gets them
	Answered // nobody gets the answer
)

// Line has that become of requests from then on.
func (h *Host) Line(is int32) { h.line.Store(is) }

// Start starts one whose disks lie in a folder.
func Start(t testing.TB, folder string, traits standin.Traits) *Host {
	t.Helper()
	state := t.TempDir()
	h := &Host{Folder: folder, State: state}
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	h.Key = string(pem.EncodeToMemory(block))
	authorized := filepath.Join(state, "authorized")
	require.NoError(t, os.WriteFile(authorized, ssh.MarshalAuthorizedKey(key), 0o600))
	way, err := door.Open(state, authorized)
	require.NoError(t, err)
	way.Commands = traits.Commands
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() { _ = way.Serve(l) }() // until then
	h.Files, h.HostKey = l.Addr().String(), way.Fingerprint
	h.Host, err = standin.Open(state, h.Folder, traits)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	api := h.Handler()
	h.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch h.line.Load() {
		case Lost:
			panic(http.ErrAbortHandler)
		case Answered:
			api.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		api.ServeHTTP(w, r)
	}))
	t.Cleanup(h.Kill) // whoever follows its changes waits for no more
	h.URL = h.server.URL
	return h
}

// Join starts one, adds it to a service as a host of that name, and its folder as a pool.
func Join(t testing.TB, s *client.Service, name, pool string, traits standin.Traits) *Host {
	t.Helper()
	return JoinAt(t, s, name, pool, t.TempDir(), traits)
}

// JoinAt does so with a folder.
func JoinAt(t testing.TB, s *client.Service, name, pool, folder string, traits standin.Traits) *Host {
	t.Helper()
	h := Start(t, folder, traits)
	runs, user, agent := "standin", "crew", false
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: name, Kind: api.NewHostKindSftp, Address: h.Files, User: &user, TrustedKey: &h.HostKey, Runs: &runs, Machines: &h.URL,
		Login: &api.Secrets{Key: &h.Key, Agent: &agent},
	})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: pool, Host: &name, Folder: h.Folder})
	require.NoError(t, err)
	return h
}

// TicketingID is the UUID of the machine of Ticketing.
const TicketingID = "0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1"

// Ticketing makes a machine of that name known, whose raw disk lies in the folder.
func (h *Host) Ticketing(t testing.TB, disk []byte) {
	t.Helper()
	at := filepath.Join(h.Folder, "ticketing.raw")
	require.NoError(t, os.WriteFile(at, disk, 0o600))
	_, err := h.Define([]byte(Definition("ticketing", TicketingID, at, "raw")))
	require.NoError(t, err)
}

// Kill ends its API, as a crash would.
func (h *Host) Kill() { h.server.CloseClientConnections(); h.server.Close() }

// Definition is a small machine of that name, whose disk is a file.
func Definition(name, uuid, disk, format string) string {
	return fmt.Sprintf(`machine_file: 1
name: %q
uuid: %q
processors: {count: 1}
memory: 33554432
firmware: bios
disks:
  - {file: %q, format: %q, bus: ide, slot: hda}
networks:
  - {kind: network, network: quay, mac: "52:54:00:00:00:01"}
`, name, uuid, disk, format)
}

// Boots is a disk of that size that a stand-in starts from.
func Boots(size int64) []byte {
	return append(bootcode.Sector("The tides are up.", 0, true), make([]byte, size-512)...)
}

// Counted is the last stamp that a guest wrote to a disk with that content. It fails where one before that is missing.
func Counted(t testing.TB, content []byte) (last int64) {
	t.Helper()
	stamps := map[int64]int64{} // by places
	for at := len(content) - 2<<20; at < len(content); at += 512 {
		var who string
		var off, stamp int64
		if n, _ := fmt.Sscan(string(content[max(at, 0):max(at, 0)+512]), &who, &off, &stamp); n == 3 && off == int64(at) {
			stamps[off], last = stamp, max(last, stamp)
		}
	}
	for off, stamp := range stamps {
		if behind := last - stamp; behind < aRun {
			require.Less(t, behind, int64(standin.Ring), "what was written at %d is missing", off)
		}
	}
	return last
}

// aRun is how many stamps no guest of a test writes: what is older is of one that ran before.
const aRun = 1 << 20
