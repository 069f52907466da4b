package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestExitCodes tell the class of what happened, as docs/troubles.md says.
func TestExitCodes(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay := s.Pool("quay-store")
	dir := t.TempDir()
	disk(t, filepath.Join(quay, "ticketing.raw"), 6<<20)
	disk(t, filepath.Join(dir, "a.raw"), 6<<20)
	walk(t, dir, state, []step{
		{"help foo", 2, `"foo" is not a command`},
		{"help pool disks", 0, "List the disks in a pool"},
		{"pool disks quay-store --only foo", 2, "broken, overlays, bases or orphans"},
		{"pool disks quay-store --sort foo", 2, "--sort takes path"},
		{"copy ./a.raw ./b.raw --chain sideways", 2, "whole, alone or flat"},
		{"limit set pool nowhere --jobs 1", 1, `pool "nowhere"`},
		{"limit set host nowhere --jobs 1", 1, `host "nowhere"`},
		{"limit set pool quay-store --jobs 1", 0, "holds"},
		{"limit list", 0, "quay-store"},
		{"limit remove pool quay-store", 0, "gone"},
		{"limit remove pool quay-store", 1, "not found"},
		{"pool add other-store " + quay, 1, "by the pool quay-store"},
		{"pool add quay-store " + dir, 1, `the name "quay-store"`},
		{"prove ./a.raw", 4, "compared with nothing"},
		{"prove ./a.raw --only-read", 0, "UNPROVEN"},
		{"prove ./a.raw --quick", 0, "UNPROVEN"},
		{"prove ./a.raw --against bf1-" + strings.Repeat("0", 64), 4, "not proven: the disk has"},
		{"convert ./a.raw ./pieces.raw --layout pieces --piece-size 2M", 0, "Step sums"},
		{"copy quay-store:ticketing.raw quay-store:copy.raw", 0, "PROVEN"},
		{"job again 1", 3, "exists already"},
		{"prove quay-store:ticketing.raw", 4, "compared with nothing"},
		{"held clear quay-store", 0, "Nothing is held"},
		{"held clear nowhere --yes", 1, `pool "nowhere"`},
		{"copy quay-store:ticketing.raw quay-store:copy.raw --replace", 0, "PROVEN"},
		{"held clear quay-store", 2, "add --yes"},
		{"held list", 0, "copy.raw"},
		{"held clear quay-store --yes", 0, "Removed"},
		{"convert ./a.raw ./a.qcow2", 0, "PROVEN"},
		{"convert ./a.raw ./a.qcow2 --replace", 0, "is held until"},
		{"held clear .", 2, "add --yes"},
		{"held list --in .", 0, "a.qcow2"},
		{"held clear . --yes", 0, "Removed"},
	})
	r := testkit.Run(t, dir, state, "prove", "./a.raw", "--against", "bf1-"+strings.Repeat("0", 64))
	assert.NotContains(t, r.Notes, "not proven: not proven")
	require.NoError(t, os.Remove(filepath.Join(dir, "pieces.raw.003")))
	require.NoError(t, os.Truncate(filepath.Join(dir, "a.qcow2"), 1<<20))
	walk(t, dir, state, []step{
		{"join ./pieces.raw.001 ./joined.raw", 4, "pieces.raw.003 is missing"},
		{"look ./pieces.raw.001", 1, "pieces.raw.003 is missing"},
		{"look ./a.qcow2", 1, "truncated"},
	})
	require.NoError(t, os.Remove(filepath.Join(dir, "pieces.raw-pieces.bagtag")))
	require.NoError(t, os.Remove(filepath.Join(dir, "pieces.raw.002")))
	walk(t, dir, state, []step{{"join ./pieces.raw.001 ./joined.raw", 4, "pieces.raw.002 is missing"}})
	assert.NoFileExists(t, filepath.Join(dir, "joined.raw"))

	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	locked := t.TempDir()
	require.NoError(t, unix.Mount("tmpfs", locked, "tmpfs", 0, "size=8m"))
	t.Cleanup(func() { _ = unix.Unmount(locked, unix.MNT_DETACH) })
	walk(t, dir, state, []step{{"pool add locked " + locked, 0, "free"}})
	require.NoError(t, unix.Mount("tmpfs", locked, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	walk(t, dir, state, []step{{"pool test locked", 1, "it is read-only"}})
}

// TestRestoringAMove says what stays, and how that is undone too; a disk of which a piece is missing shows in the list of its pool.
func TestRestoringAMove(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay := s.Pool("quay-store")
	disk(t, filepath.Join(quay, "roster.raw"), 6<<20)
	const domain = "<domain type='x'><name>crew-roster</name><devices><disk><driver type='%s'/><source file='%s'/></disk></devices></domain>"
	definition := filepath.Join(quay, "crew-roster.xml")
	require.NoError(t, os.WriteFile(definition, fmt.Appendf(nil, domain, "raw", quay+"/roster.raw"), 0o600))
	walk(t, quay, state, []step{{"move quay-store:roster.raw quay-store:roster.qcow2 --as qcow2", 0, "names the disk in its new place"}})
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(held, func(h api.Held) bool { return h.Path == "roster.raw" })
	require.GreaterOrEqual(t, i, 0)
	r := testkit.Run(t, quay, state, "held", "restore", "quay-store", held[i].Id)
	require.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Notes, "its copy quay-store:roster.qcow2 stays")
	_, command, ok := strings.Cut(r.Notes, "As it was before: bagaglio ")
	require.True(t, ok, r.Notes)
	walk(t, quay, state, []step{
		{strings.TrimSpace(command), 0, "crew-roster.xml is back"},
		{"convert quay-store:roster.raw quay-store:pieces.raw --as raw --layout pieces --piece-size 2M", 0, "PROVEN"},
	})
	now, err := os.ReadFile(definition)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf(domain, "raw", quay+"/roster.raw"), string(now))
	require.NoError(t, os.Remove(filepath.Join(quay, "pieces.raw.003")))
	walk(t, quay, state, []step{{"pool disks quay-store --refresh", 0, "BROKEN: the image is damaged: pieces.raw.003 is missing"}})
}

// said collects what a process says while it runs.
type said struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// TestFollowingPastAKill: the client waits for a service that is away, and whoever interrupts it is told what goes on.
func TestFollowingPastAKill(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay := s.Pool("quay-store")
	disk(t, filepath.Join(quay, "ticketing.raw"), 24<<20)
	noise := bytes.Repeat([]byte("timetable "), 2_000_000)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "ticketing.raw"), noise[:len(noise)/512*512], 0o600))
	p, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "copy.raw"},
	})
	require.NoError(t, err)
	slow := int64(2 << 20)
	_, err = s.Start(t.Context(), api.NewJob{Plan: p.Id, Speed: &slow})
	require.NoError(t, err)
	follow := func() (*exec.Cmd, *said, *said) {
		cmd := exec.CommandContext(t.Context(), testkit.Binary(t), "job", "follow", "1")
		cmd.Env = append(os.Environ(), "BAGAGLIO_STATE="+state)
		out, notes := &said{}, &said{}
		cmd.Stdout, cmd.Stderr = io.Writer(out), io.Writer(notes)
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { return strings.Contains(notes.String(), "Step") }, 10*time.Second, 10*time.Millisecond)
		return cmd, out, notes
	}
	stopped, _, notes := follow()
	require.NoError(t, stopped.Process.Signal(syscall.SIGINT))
	require.Error(t, stopped.Wait())
	assert.Equal(t, 130, stopped.ProcessState.ExitCode())
	assert.Contains(t, notes.String(), "goes on in the service")
	assert.NotContains(t, notes.String(), "context canceled")

	waiting, out, notes := follow()
	s.Kill()
	require.Eventually(t, func() bool {
		return strings.Contains(notes.String(), "Job 1 goes on when it is back; this waits for it.")
	}, 10*time.Second, 10*time.Millisecond, "%s", notes)
	s = testkit.Start(t, state, "--listen", strings.TrimPrefix(s.Address, "http://"))
	none := int64(0)
	_, err = s.Change(t.Context(), "1", api.JobChange{Speed: &none})
	require.NoError(t, err)
	require.NoError(t, waiting.Wait(), "%s", notes)
	assert.Contains(t, out.String(), "PROVEN")
	assert.Contains(t, out.String(), "Went on")
	assert.Equal(t, 1, strings.Count(notes.String(), "goes on when it is back"), "it is told once")
}
