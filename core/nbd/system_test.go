package nbd

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheSystemsServer is read by us: it has no structured replies, so that the whole disk is data.
func TestTheSystemsServer(t *testing.T) {
	server, err := exec.LookPath("nbd-server")
	if err != nil {
		t.Skip("nbd-server is not installed (Debian: nbd-server)")
	}
	dir := t.TempDir()
	content := newSparse(3 << 20).content
	file, config := filepath.Join(dir, "disk.raw"), filepath.Join(dir, "config")
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().(*net.TCPAddr)
	require.NoError(t, free.Close())
	require.NoError(t, os.WriteFile(file, content, 0o600))
	text := fmt.Sprintf("[generic]\nlistenaddr = 127.0.0.1\nport = %d\n[disk]\nexportname = %s\nreadonly = true\n", at.Port, file)
	require.NoError(t, os.WriteFile(config, []byte(text), 0o600))
	cmd := exec.CommandContext(t.Context(), server, "-C", config, "-d", "-p", filepath.Join(dir, "pid"))
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	var conn net.Conn
	require.Eventually(t, func() bool {
		conn, err = (&net.Dialer{}).DialContext(t.Context(), "tcp", at.String())
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "it says %s", &said)
	d, err := Connect(t.Context(), conn, "disk", nil)
	require.NoError(t, err, "%s", &said)
	defer d.Close()
	assert.EqualValues(t, len(content), d.Size())
	p := make([]byte, len(content))
	_, err = d.ReadAt(p, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, p))
	e, err := d.Extent(4096)
	require.NoError(t, err)
	assert.Equal(t, disk.Extent{Off: 4096, Len: d.Size() - 4096, Kind: disk.Data}, e)
}
