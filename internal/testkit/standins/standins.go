// Package standins starts simulated hosts of machines for tests, with a key of their own for who reaches their files.
package standins

import (
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

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
	server  *httptest.Server
}

// Start starts one.
func Start(t testing.TB, traits standin.Traits) *Host {
	t.Helper()
	state := t.TempDir()
	h := &Host{Folder: t.TempDir()}
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	h.Key = string(pem.EncodeToMemory(block))
	authorized := filepath.Join(state, "authorized")
	require.NoError(t, os.WriteFile(authorized, ssh.MarshalAuthorizedKey(key), 0o600))
	door, err := standin.OpenDoor(state, authorized)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() { _ = door.Serve(l) }() // until then
	h.Files, h.HostKey = l.Addr().String(), door.Fingerprint
	h.Host, err = standin.Open(state, h.Folder, traits)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	h.server = httptest.NewServer(h.Handler())
	t.Cleanup(h.server.Close)
	h.URL = h.server.URL
	return h
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
