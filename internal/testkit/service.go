// Package testkit drives the real thing for tests: the binary, the service as a process, a browser on the console.
package testkit

import (
	"bufio"
	"bytes"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/internal/authority"

	"github.com/stretchr/testify/require"
)

// Binary builds bagaglio and returns its path.
func Binary(t testing.TB) string {
	path, err := build()
	require.NoError(t, err)
	return path
}

// Torture builds it so that it can be killed at named points.
func Torture(t testing.TB) string {
	path, err := buildTorture()
	require.NoError(t, err)
	return path
}

var (
	build        = sync.OnceValues(func() (string, error) { return buildWith("nomsgpack") })
	buildTorture = sync.OnceValues(func() (string, error) { return buildWith("nomsgpack,torture") })
)

// buildWith leaves the binary where the next package finds it: what is up to date is not linked again. Packages that are tested side by side
// build one after the other, so that none writes what another one runs.
func buildWith(tags string) (string, error) {
	root, err := Root()
	if err != nil {
		return "", err
	}
	kind, args := tags, []string{"build", "-tags", tags}
	if os.Getenv("BAGAGLIO_RACE") != "" {
		kind, args = kind+"-race", append(args, "-race")
	}
	path := filepath.Join(root, "bin", "test", kind, "bagaglio")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	lock, err := os.OpenFile(path+".lock", os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return "", err
	}
	if tags == clockTag {
		overlay, err := clockOverlay(filepath.Dir(path))
		if err != nil {
			return "", err
		}
		args = append(args, "-overlay", overlay)
	}
	args = append(args, "-o", path)
	cmd := exec.Command("go", append(args, "./cmd/bagaglio")...)
	cmd.Dir = root
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", errors.New(string(out))
	}
	return path, nil
}

// Root returns the folder of the project.
func Root() (string, error) {
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}").Output()
	return strings.TrimSpace(string(out)), err
}

// Service is a service that runs as a process.
type Service struct {
	*client.Service
	State   string // folder
	Address string
	Link    string // that opens the console once
	Token   string
	t       testing.TB
	cmd     *exec.Cmd
	waited  sync.Once // whoever ends it waits, and only one may
	notes   *bytes.Buffer
}

// Start starts a service on loopback with the given state folder, and stops it when the test ends.
func Start(t testing.TB, state string, flags ...string) *Service {
	t.Helper()
	return StartBinary(t, Binary(t), nil, state, flags...)
}

// StartBinary does so with another binary and more in its environment.
func StartBinary(t testing.TB, binary string, env []string, state string, flags ...string) *Service {
	t.Helper()
	s := &Service{State: state, t: t, notes: &bytes.Buffer{}}
	s.cmd = exec.Command(binary, append([]string{"serve", "--listen", "127.0.0.1:0", "--state", state}, flags...)...)
	s.cmd.Env = append(os.Environ(), env...)
	s.cmd.Stderr = s.notes
	out, err := s.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.Stop() })
	for lines := bufio.NewScanner(out); s.Link == "" && lines.Scan(); {
		_, s.Link, _ = strings.Cut(lines.Text(), "minutes: ")
	}
	require.NotEmpty(t, s.Link, "the service did not start: %s", s.notes)
	s.Address, _, _ = strings.Cut(s.Link, "/enter")
	token, err := os.ReadFile(filepath.Join(state, "token"))
	require.NoError(t, err)
	s.Token = strings.TrimSpace(string(token))
	s.Service, err = client.Dial(s.Address, s.Token, client.WithHTTPClient(s.HTTP()))
	require.NoError(t, err)
	return s
}

// HTTP is a client that trusts it.
func (s *Service) HTTP() *http.Client {
	if !strings.HasPrefix(s.Address, "https:") {
		return &http.Client{}
	}
	certificates, err := os.ReadFile(filepath.Join(s.State, authority.Trusted))
	require.NoError(s.t, err)
	check, err := authority.Trust(certificates)
	require.NoError(s.t, err)
	return &http.Client{Transport: &http.Transport{TLSClientConfig: check, ForceAttemptHTTP2: true}}
}

// Process is the number of its process.
func (s *Service) Process() int { return s.cmd.Process.Pid }

// Notes are what the service said on standard error, once it has ended.
func (s *Service) Notes() string { return s.notes.String() }

// Stop asks the service to stop and waits for its end.
func (s *Service) Stop() { s.end(syscall.SIGTERM) }

// Ended returns when the service has ended by itself.
func (s *Service) Ended() { s.end(nil) }

// Kill ends the service at once, as a power cut would.
func (s *Service) Kill() { s.end(syscall.SIGKILL) }

func (s *Service) end(signal os.Signal) {
	if signal != nil {
		_ = s.cmd.Process.Signal(signal) // it may have ended by itself
	}
	s.waited.Do(func() {
		_ = s.cmd.Wait()
		if s.t.Failed() {
			s.t.Logf("the service said:\n%s", s.notes)
		}
	})
}

// Pool makes a folder and adds it as a pool; it returns the folder.
func (s *Service) Pool(name string) string {
	s.t.Helper()
	dir := s.t.TempDir()
	_, err := s.AddPool(s.t.Context(), api.NewPool{Name: name, Folder: dir})
	require.NoError(s.t, err)
	return dir
}

// Result is what a command of the client did.
type Result struct {
	Code  int
	Out   string // data
	Notes string // progress, remarks and errors
}

// Run runs the client as a process in a folder. state is the folder of the service to talk to, or empty.
func Run(t testing.TB, dir, state string, args ...string) Result {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), Binary(t), args...)
	cmd.Dir = dir
	if state == "" {
		state = filepath.Join(t.TempDir(), "none")
	}
	cmd.Env = append(os.Environ(), "BAGAGLIO_STATE="+state)
	var out, notes bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &notes
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return Result{cmd.ProcessState.ExitCode(), out.String(), notes.String()}
}
