package testkit

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"

	"github.com/stretchr/testify/require"
)

// Porter is one that runs as a process, and reaches its service over a line that can be cut.
type Porter struct {
	Name   string
	State  string // folder
	Line   *Cable
	t      testing.TB
	flags  []string
	in     []string // a command that it is run by
	binary string
	cmd    *exec.Cmd
	notes  *bytes.Buffer
}

// Join invites a porter to a service that was started with --porters, has it join, and waits until it is connected.
func Join(t testing.TB, s *Service, name string) *Porter {
	t.Helper()
	return join(t, s, name, func(*Porter) {})
}

func join(t testing.TB, s *Service, name string, how func(*Porter)) *Porter {
	t.Helper()
	i, err := s.InvitePorter(t.Context(), name)
	require.NoError(t, err)
	p := &Porter{Name: name, State: t.TempDir(), Line: NewCable(t, i.Listens), t: t, binary: Binary(t)}
	how(p)
	p.join(s, i, p.Line.Address)
	return p
}

// JoinIn has one join that is run by a command, in a network of its own say, with flags. It reaches its service without a cable.
func JoinIn(t testing.TB, s *Service, name string, in []string, flags ...string) *Porter {
	t.Helper()
	i, err := s.InvitePorter(t.Context(), name)
	require.NoError(t, err)
	p := &Porter{Name: name, State: t.TempDir(), t: t, in: in, flags: flags, binary: Binary(t)}
	p.join(s, i, i.Listens)
	return p
}

func (p *Porter) join(s *Service, i api.Invitation, address string) {
	t := p.t
	t.Helper()
	text, err := json.Marshal(i)
	require.NoError(t, err)
	file := filepath.Join(p.State, "invitation")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	p.start("--join", address, "--invitation", file)
	t.Cleanup(func() { p.end(syscall.SIGTERM) })
	p.Connected(s)
}

// Flags are those that it is started with from then on.
func (p *Porter) Flags(flags ...string) { p.flags = flags }

// Start starts it again after it has ended.
func (p *Porter) Start() { p.start() }

func (p *Porter) start(flags ...string) {
	p.t.Helper()
	p.notes = &bytes.Buffer{}
	words := slices.Concat(p.in, []string{p.binary, "porter", "--state", p.State}, p.flags, flags)
	p.cmd = exec.Command(words[0], words[1:]...)
	p.cmd.Stderr = p.notes
	require.NoError(p.t, p.cmd.Start())
}

// Connected waits until the service says that it is.
func (p *Porter) Connected(s *Service) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		now, err := s.Porter(p.t.Context(), p.Name)
		return err == nil && now.State == api.PorterStateConnected && now.Version != nil
	}, 40*time.Second, 50*time.Millisecond, "the porter does not connect: %s", p.notes)
}

// Kill ends it as a power cut would, and Stop as it is asked to.
func (p *Porter) Kill() { p.end(syscall.SIGKILL) }
func (p *Porter) Stop() { p.end(syscall.SIGTERM) }

// Signal sends its process a signal, to stand still say.
func (p *Porter) Signal(signal os.Signal) { require.NoError(p.t, p.cmd.Process.Signal(signal)) }

func (p *Porter) end(signal os.Signal) {
	if p.cmd == nil {
		return
	}
	_ = p.cmd.Process.Signal(signal) // it may have ended
	_ = p.cmd.Wait()
	p.cmd = nil
	if p.t.Failed() {
		p.t.Logf("the porter %s said:\n%s", p.Name, strings.TrimSpace(p.notes.String()))
	}
}

// Cable hands on what comes to an address, counts it, and can be cut.
type Cable struct {
	Address string
	Bytes   atomic.Int64 // both ways

	mu   sync.Mutex
	cut  bool
	open map[net.Conn]struct{}
}

// NewCable leads to an address until the test ends.
func NewCable(t testing.TB, to string) *Cable {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &Cable{Address: l.Addr().String(), open: map[net.Conn]struct{}{}}
	t.Cleanup(func() {
		_ = l.Close()
		c.Cut(true)
	})
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return // the test has ended
			}
			go c.carry(near, to)
		}
	}()
	return c
}

func (c *Cable) carry(near net.Conn, to string) {
	defer near.Close()
	far, err := (&net.Dialer{}).DialContext(context.Background(), "tcp", to)
	if err != nil || !c.keep(near, far) {
		return
	}
	defer far.Close()
	go func() {
		c.copy(far, near)
		_ = near.Close() // both ends go together
		_ = far.Close()
	}()
	c.copy(near, far)
}

// keep notes a connection, unless the cable is cut.
func (c *Cable) keep(near, far net.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.cut {
		c.open[near], c.open[far] = struct{}{}, struct{}{}
	}
	return !c.cut
}

func (c *Cable) copy(to io.Writer, from io.Reader) {
	for p := make([]byte, 64<<10); ; {
		n, err := from.Read(p)
		c.Bytes.Add(int64(n))
		if _, writeErr := to.Write(p[:n]); err != nil || writeErr != nil {
			return
		}
	}
}

// Cut cuts it, or mends it.
func (c *Cable) Cut(cut bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.cut = cut
	for conn := range c.open {
		_ = conn.Close() // it may have ended
	}
	c.open = map[net.Conn]struct{}{}
}
