package guestd

import (
	"net"
	"os/user"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADaemonThatFalls is started again; one that is killed on purpose stays so until it is to run.
func TestADaemonThatFalls(t *testing.T) {
	u, err := user.Lookup("nobody")
	require.NoError(t, err)
	if me, err := user.Current(); err == nil && me.Uid != "0" {
		u = me
	}
	d, err := Start(u)
	if err != nil {
		t.Skipf("no machines can be run here: %v", err)
	}
	answers := func() bool {
		c, err := net.Dial("unix", d.Socket)
		return err == nil && assert.NoError(t, c.Close())
	}
	d.mu.Lock()
	fell := d.cmd
	require.NoError(t, fell.Process.Signal(syscall.SIGABRT))
	d.mu.Unlock()
	require.Eventually(t, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.cmd != fell && d.wanted
	}, readyIn, 20*time.Millisecond)
	require.True(t, answers())
	d.Kill()
	assert.Contains(t, d.Said(), "It ended by itself (signal: aborted")
	assert.False(t, answers())
	for range 8 {
		require.NoError(t, d.Run())
		d.mu.Lock()
		runs := d.cmd
		d.mu.Unlock()
		time.Sleep(2 * time.Millisecond) // whoever minds the one before looks
		d.mu.Lock()
		assert.Same(t, runs, d.cmd, "it is started once")
		d.mu.Unlock()
		d.Kill()
	}
	require.NoError(t, d.Run())
	assert.True(t, answers())
	require.NoError(t, d.Close())
	assert.True(t, strings.HasPrefix(d.dir, "/tmp/guests-"))
	assert.NoDirExists(t, d.dir)
}
