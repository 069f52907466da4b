// Package sshd starts the system's own SSH server on loopback for tests, with keys of its own.
package sshd

import (
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Server is a running server. Whoever has Key may log in as User, who runs the tests.
type Server struct {
	Address string // host:port
	User    string
	Key     []byte // private, PEM
	KeyFile string
	HostKey string // fingerprint
	config  string
	rights  string // of the crew, a file of sudo
	binary  string
	cmd     *exec.Cmd
	t       testing.TB
}

// Start starts a server that ends with the test. more are further lines of its configuration (sshd_config(5)). Without a server on this
// computer the test is skipped.
func Start(t testing.TB, more ...string) *Server { return StartOn(t, "127.0.0.1", more...) }

// StartOn prepares one for another address, which begins with Run.
func StartOn(t testing.TB, host string, more ...string) *Server {
	t.Helper()
	binary, err := exec.LookPath("sshd")
	if err != nil {
		binary = "/usr/sbin/sshd"
	}
	if _, err := os.Stat(binary); err != nil {
		t.Skip("there is no sshd on this computer: install openssh-server")
	}
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755), "where sshd separates its privileges")
	}
	me, err := user.Current()
	require.NoError(t, err)
	dir := t.TempDir()
	s := &Server{User: me.Username, KeyFile: filepath.Join(dir, "key"), config: filepath.Join(dir, "config"), binary: binary, t: t}
	hostKey, hostPEM := newKey(t)
	s.HostKey = ssh.FingerprintSHA256(hostKey)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "host"), hostPEM, 0o600))
	public, private := newKey(t)
	s.Key = private
	require.NoError(t, os.WriteFile(s.KeyFile, private, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(public), 0o600))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	require.NoError(t, listener.Close())
	s.Address = fmt.Sprintf("%s:%d", host, port)
	home := filepath.Join(dir, "home")
	require.NoError(t, os.Mkdir(home, 0o755))
	config := append([]string{
		"ListenAddress " + s.Address,
		"HostKey " + filepath.Join(dir, "host"),
		"AuthorizedKeysFile " + filepath.Join(dir, "authorized"),
		"UsePAM no",
		"StrictModes no",
		"PasswordAuthentication no",
		"PermitRootLogin yes",
		"PidFile none",
		"MaxStartups 100",
		"MaxSessions 100",
		"Subsystem sftp internal-sftp",
	}, atHome(home, more)...)
	require.NoError(t, os.WriteFile(s.config, []byte(strings.Join(config, "\n")+"\n"), 0o600))
	if host == "127.0.0.1" {
		s.Run()
	}
	t.Cleanup(s.Kill)
	return s
}

// atHome gives those who log in a home without anything in it: whatever a user of this computer has shells begin with takes time, and leaves locks when it is
// killed. A server takes one line with an environment only.
func atHome(home string, config []string) []string {
	const line = "SetEnv "
	out, own := slices.Clone(config), "HOME="+home
	for i := range out {
		if strings.HasPrefix(out[i], line) {
			out[i] += " " + own
			return out
		}
	}
	return append(out, line+own)
}

// Crew has another user log in, who has no rights but those of some programs by sudo(8). It skips the test where that is not possible.
func (s *Server) Crew(programs ...string) {
	s.t.Helper()
	if os.Getuid() != 0 {
		s.t.Skip("making a user takes root")
	}
	for _, tool := range append([]string{"sudo", "useradd", "userdel"}, programs...) {
		if _, err := exec.LookPath(tool); err != nil {
			s.t.Skipf("%s is missing", tool)
		}
	}
	name := fmt.Sprintf("crew-%d", os.Getpid())
	run := func(words ...string) {
		out, err := exec.Command(words[0], words[1:]...).CombinedOutput()
		require.NoError(s.t, err, "%v: %s", words, out)
	}
	run("useradd", "--system", "--user-group", "--no-create-home", "--home-dir", "/", "--shell", "/bin/sh", "--password", "*", name)
	s.t.Cleanup(func() { run("userdel", "--force", name) })
	var paths []string
	for _, p := range programs {
		path, err := exec.LookPath(p)
		require.NoError(s.t, err)
		paths = append(paths, path)
	}
	rights := filepath.Join("/etc/sudoers.d", name)
	require.NoError(s.t, os.WriteFile(rights, []byte(name+" ALL=(root) NOPASSWD: "+strings.Join(paths, ", ")+"\n"), 0o440))
	s.rights = rights
	s.t.Cleanup(s.Revoke)
	dir := filepath.Dir(s.config) // which the server reads as that user
	require.NoError(s.t, os.Chmod(filepath.Dir(dir), 0o755))
	require.NoError(s.t, os.Chmod(filepath.Join(dir, "authorized"), 0o644))
	s.User = name
}

// Revoke takes the rights of the crew.
func (s *Server) Revoke() {
	if s.rights != "" {
		require.NoError(s.t, os.Remove(s.rights))
		s.rights = ""
	}
}

func newKey(t testing.TB) (ssh.PublicKey, []byte) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	shown, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return shown, pem.EncodeToMemory(block)
}

// Run starts it again after Kill, with the same keys on the same port. The words before run it somewhere else, such as in a network
// namespace.
func (s *Server) Run(before ...string) {
	s.t.Helper()
	words := append(before, s.binary, "-D", "-e", "-f", s.config)
	s.cmd = exec.Command(words[0], words[1:]...)
	require.NoError(s.t, s.cmd.Start())
	if len(before) > 0 {
		return
	}
	require.Eventually(s.t, func() bool {
		conn, err := net.Dial("tcp", s.Address)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 10*time.Second, 5*time.Millisecond, "sshd did not start")
}

// Kill ends the server with all its connections at once.
func (s *Server) Kill() {
	if s.cmd == nil {
		return
	}
	for _, pid := range append(children(s.cmd.Process.Pid), s.cmd.Process.Pid) { // they have sessions of their own
		_ = syscall.Kill(pid, syscall.SIGKILL) // or it has just ended
	}
	_ = s.cmd.Wait() // it was killed
	s.cmd = nil
}

// children are the processes below one, the deepest too.
func children(of int) (pids []int) {
	out, err := exec.Command("ps", "-e", "-o", "pid=,ppid=").Output()
	if err != nil {
		return nil
	}
	above := map[int]int{}
	for line := range strings.Lines(string(out)) {
		var pid, parent int
		if _, err := fmt.Sscan(line, &pid, &parent); err == nil {
			above[pid] = parent
		}
	}
	for pid := range above {
		for at := pid; at > 1; at = above[at] {
			if above[at] == of {
				pids = append(pids, pid)
				break
			}
		}
	}
	return pids
}
