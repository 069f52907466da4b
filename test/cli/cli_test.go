// Package cli tests the command line as a process.
package cli

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// disk writes a disk with some content and some holes.
func disk(t *testing.T, path string, size int64) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, f.Truncate(size))
	b := make([]byte, min(size, 3<<20))
	_, _ = rand.Read(b) // never fails
	_, err = f.WriteAt(b, size-int64(len(b)))
	require.NoError(t, err)
}

func TestOnTheSpotThereAndBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 40<<20)
	run := func(args ...string) testkit.Result {
		r := testkit.Run(t, dir, "", args...)
		require.Zero(t, r.Code, "%v: %s", args, r.Notes)
		return r
	}
	r := run("convert", "./a.raw", "./b.qcow2", "--as", "qcow2", "--layout", "thin", "--json")
	var receipt struct {
		Outcome             string
		Source, Destination struct{ Fingerprint string }
		BytesRead           int64 `json:"bytes_read"`
		BytesWritten        int64 `json:"bytes_written"`
		Seconds             float64
	}
	require.NoError(t, json.Unmarshal([]byte(r.Out), &receipt), "nothing but data on standard output: %s", r.Out)
	assert.Equal(t, "proven", receipt.Outcome)
	assert.Equal(t, receipt.Source.Fingerprint, receipt.Destination.Fingerprint)
	assert.Positive(t, receipt.BytesRead)
	assert.Equal(t, int64(3<<20), receipt.BytesWritten)
	assert.Positive(t, receipt.Seconds)
	assert.Contains(t, r.Notes, "BEFORE", "what will happen is said before")

	printed := run("fingerprint", "./b.qcow2").Out
	assert.Equal(t, receipt.Source.Fingerprint+"\n", printed)
	_, err := fingerprint.Parse(strings.TrimSpace(printed))
	require.NoError(t, err)

	run("convert", "./b.qcow2", "./c.vhd") // the format by the name
	run("convert", filepath.Join(dir, "c.vhd"), "./d.raw", "--layout", "thick")
	assert.Contains(t, run("prove", "./c.vhd", "--against", "./a.raw").Out, "PROVEN")
	assert.Contains(t, run("prove", "./c.vhd", "--against", receipt.Source.Fingerprint).Out, "PROVEN")
	a, err := os.ReadFile(filepath.Join(dir, "a.raw"))
	require.NoError(t, err)
	d, err := os.ReadFile(filepath.Join(dir, "d.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(a, d))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 7, "each image has its tag, and nothing else is left behind")

	var report map[string]any
	require.NoError(t, json.Unmarshal([]byte(run("look", "./b.qcow2", "--json").Out), &report))
	for _, key := range []string{"format", "layout", "virtual_size", "allocated_size", "file_size", "files", "base", "warnings"} {
		assert.Contains(t, report, key)
	}
	assert.Contains(t, run("look", "./d.raw").Out, "virtual size    40 MiB (41,943,040 bytes)")
}

// TestALargeDiskTakesLittleMemory: what counts is the data, not the virtual size.
func TestALargeDiskTakesLittleMemory(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "a.raw"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1<<40))
	b := make([]byte, 64<<20)
	_, _ = rand.Read(b) // never fails
	_, err = f.WriteAt(b, 700<<30)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.raw"), nil, 0o600))
	require.NoError(t, os.Truncate(filepath.Join(dir, "b.raw"), 15<<40))
	for _, way := range []string{"./a.raw ./a.qcow2", "./a.raw ./a.vhd", "./a.raw ./c.raw", "./b.raw ./b.vdi", "./b.raw ./b.hds", "./b.raw ./b.vhdx"} {
		from, to, _ := strings.Cut(way, " ")
		cmd := exec.CommandContext(t.Context(), testkit.Binary(t), "convert", from, to)
		cmd.Dir = dir
		require.NoError(t, cmd.Start())
		peak := watchMemory(cmd.Process.Pid)
		require.NoError(t, cmd.Wait())
		assert.Positive(t, <-peak)
		assert.Less(t, <-peak, 100<<10, "KiB, %s", to)
	}
}

// watchMemory yields the most memory that a process took, in KiB, once it has ended. What wait(2) tells would not do: it
// counts what the process had before it became another program.
func watchMemory(pid int) <-chan int {
	out := make(chan int, 2)
	go func() {
		peak := 0
		for {
			b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, rest, found := strings.Cut(string(b), "VmHWM:")
			if err != nil || !found { // it has ended
				out <- peak
				out <- peak
				return
			}
			var now int
			if _, err := fmt.Sscan(rest, &now); err == nil {
				peak = max(peak, now)
			}
			time.Sleep(time.Millisecond)
		}
	}()
	return out
}

func TestExitCodesTellTheClass(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 4<<20)
	disk(t, filepath.Join(dir, "b.raw"), 4<<20)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.qcow2"), []byte("QFI\xfb broken"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "not.qcow2"), make([]byte, 4096), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o700))
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"version", 0, ""},
		{"convert ./a.raw ./new.qcow2 --plan", 0, ""},
		{"convert ./a.raw ./sub/new.vhd --no-proof", 0, ""},
		{"fly", 2, `"fly" is not a command`},
		{"pool sink", 2, `pool has no command "sink"`},
		{"convert ./a.raw", 2, "accepts 2 arg(s), received 1"},
		{"convert ./a.raw ./x.qcow2 --fast", 2, "unknown flag"},
		{"convert ./a.raw ./x.floppy", 2, "add --as FORMAT"},
		{"convert ./a.raw ./x.qcow2 --as floppy", 2, "choose one of [raw qcow2"},
		{"convert ./a.raw ./x.qcow2 --layout fluffy", 2, "qcow2 has no layout"},
		{"copy ./a.raw pool:x.qcow2", 2, "in \"convert\" only"},
		{"look a.raw", 2, "begin a path of this computer with ./ or /"},
		{"prove ./a.raw --against 42", 2, "names no disk"},
		{"look ./gone.raw", 1, "no such file"},
		{"look ./broken.qcow2", 1, "the file ends inside the header"},
		{"look ./not.qcow2", 1, "no marks of qcow2"},
		{"look ./sub", 1, "is a folder"},
		{"pool list", 1, "start one with bagaglio serve"},
		{"convert ./a.raw ./nowhere/x.qcow2", 1, "make it first"},
		{"convert ./gone.raw ./x.qcow2", 3, "no such file"},
		{"convert ./not.qcow2 ./x.raw", 3, "I know that it is raw"},
		{"convert ./not.qcow2 ./x.raw --from raw", 0, ""},
		{"convert ./a.raw ./b.raw", 3, "exists already"},
		{"convert ./a.raw ./a.raw", 3, "same file"},
		{"convert ./a.raw ./b.vhd --as qcow2", 3, "claims vhd"},
		{"convert ./a.raw ./b.raw --plan", 3, "STOP"},
		{"convert ./a.raw ./b.raw --replace", 0, ""},
		{"convert ./a.raw ./x.qcow2 --block-size 3000", 2, "choose one of 65536"},
		{"convert ./a.raw ./x.qcow2 --block-size many", 2, "is no length"},
		{"convert ./a.raw ./x.raw --compression zstd", 2, "has no choice of compression"},
		{"convert ./a.raw ./x.qcow2 --layout overlay", 2, "name one"},
		{"convert ./a.raw ./x.qcow2 --layout overlay --base quay:b.raw", 2, "where the new image does"},
		{"convert ./a.raw ./x.qcow2 --layout overlay --base ./gone.raw", 3, "no such file"},
		{"convert ./a.raw ./x.vhd --layout differencing --base ./b.raw", 3, "base of its own format"},
		{"look ./a.raw --snapshot noon", 1, "snapshots kept inside a raw image"},
		{"prove ./a.raw --against bf1-" + strings.Repeat("0", 64), 4, "not proven"},
	} {
		r := testkit.Run(t, dir, "", strings.Fields(c.args)...)
		assert.Equal(t, c.code, r.Code, "%s: %s", c.args, r.Notes)
		assert.Contains(t, r.Notes+r.Out, c.says, c.args)
		assert.NotContains(t, r.Notes, "panic", c.args)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 9, "x.raw and b.raw came with their tags, what was there before is held, and nothing else")
}

// TestFileSizeLimit: the plan knows the longest file; a write beyond it is an error with advice, not the end of the process.
func TestFileSizeLimit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	disk(t, filepath.Join(dir, "a.raw"), 40<<20)
	limited := func(args ...string) testkit.Result {
		script := `ulimit -f 20480; exec "$0" "$@"` // blocks of 1024 bytes
		cmd := exec.CommandContext(t.Context(), "bash", append([]string{"-c", script, testkit.Binary(t)}, args...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.Error(t, err)
		return testkit.Result{Code: cmd.ProcessState.ExitCode(), Out: string(out)}
	}
	r := limited("convert", "./a.raw", "./b.vhd", "--layout", "fixed")
	assert.Equal(t, 3, r.Code, r.Out)
	assert.Contains(t, r.Out, "holds files of at most 20 MiB")
	assert.Contains(t, r.Out, "- Convert to qcow2, thin")
}

// working starts a conversion that takes a while, and returns when it writes.
func working(t *testing.T, dir string) *exec.Cmd {
	t.Helper()
	if _, err := os.Stat(filepath.Join(dir, "large.raw")); err != nil {
		f, err := os.Create(filepath.Join(dir, "large.raw"))
		require.NoError(t, err)
		block := bytes.Repeat([]byte("Isola Ferries. "), 1<<20)
		for range 80 {
			_, err := f.Write(block)
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
	}
	cmd := exec.Command(testkit.Binary(t), "convert", "./large.raw", "./large.qcow2")
	cmd.Dir = dir
	notes, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	var said bytes.Buffer
	b := make([]byte, 1)
	for !strings.Contains(said.String(), "Step 2 of") {
		_, err := notes.Read(b)
		require.NoError(t, err, said.String())
		said.Write(b)
	}
	go func() { _, _ = said.ReadFrom(notes) }() // what it says afterwards is of no matter
	return cmd
}

func left(t *testing.T, dir string) (names []string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// TestInterruptedLeavesNothing; killed leaves staging, which the next run there clears up.
func TestInterruptedLeavesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cmd := working(t, dir)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait() // its exit code is looked at
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.Equal(t, []string{"large.raw"}, left(t, dir))

	cmd = working(t, dir)
	require.Eventually(t, func() bool {
		found, err := filepath.Glob(filepath.Join(dir, ".bagaglio/staging/*/large.qcow2"))
		return err == nil && len(found) == 1
	}, 10*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
	_ = cmd.Wait()
	assert.Equal(t, []string{".bagaglio", "large.raw"}, left(t, dir), "the final name is absent")

	r := testkit.Run(t, dir, "", "convert", "./large.raw", "./large.qcow2")
	require.Zero(t, r.Code, r.Notes)
	assert.Equal(t, []string{"large.qcow2", "large.qcow2.bagtag", "large.raw"}, left(t, dir))
}

// TestWithTheService: the same commands on disks in pools, and those that are about the service.
func TestWithTheService(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	quay, lighthouse := t.TempDir(), t.TempDir()
	disk(t, filepath.Join(quay, "tide-board.raw"), 20<<20)
	run := func(code int, args ...string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, quay, s.State, args...)
		require.Equal(t, code, r.Code, "%v: %s", args, r.Notes)
		return r
	}
	run(0, "pool", "add", "quay-store", quay)
	run(0, "pool", "add", "lighthouse-store", lighthouse)
	assert.Contains(t, run(0, "pool", "list").Out, quay)
	assert.Contains(t, run(0, "pool", "disks", "quay-store").Out, "tide-board.raw  raw")
	assert.Contains(t, run(0, "look", "quay-store:tide-board.raw").Out, "virtual size")
	assert.Contains(t, run(0, "convert", "quay-store:tide-board.raw", "lighthouse-store:boards/tide-board.vhd", "--yes").Out, "PROVEN")
	assert.FileExists(t, filepath.Join(lighthouse, "boards", "tide-board.vhd"))
	assert.Contains(
		t,
		run(3, "convert", "quay-store:tide-board.raw", "lighthouse-store:boards/tide-board.vhd").Notes,
		"Write to boards/tide-board-2.vhd",
	)
	assert.Contains(t, run(0, "prove", "lighthouse-store:boards/tide-board.vhd", "--against", "quay-store:tide-board.raw").Out, "PROVEN")
	assert.Equal(t, run(0, "fingerprint", "quay-store:tide-board.raw").Out, testkit.Run(t, quay, "", "fingerprint", "./tide-board.raw").Out)
	run(4, "prove", "quay-store:tide-board.raw", "--against", "bf1-"+strings.Repeat("0", 64))

	assert.Contains(t, run(0, "job", "list").Out, "done, proven")
	var jobs []struct{ ID, State string }
	require.NoError(t, json.Unmarshal([]byte(run(0, "job", "list", "--json").Out), &jobs))
	assert.GreaterOrEqual(t, len(jobs), 4)
	assert.Contains(t, run(0, "job", "show", "1").Out, "lighthouse-store:boards/tide-board.vhd")
	assert.Contains(t, run(0, "job", "receipt", "1").Out, "PROVEN")
	assert.Contains(t, run(0, "job", "follow", "1").Out, "PROVEN")
	assert.Contains(t, run(1, "job", "cancel", "1").Notes, "has ended already")
	assert.Contains(t, run(1, "job", "show", "99").Notes, "not found")
	assert.Contains(t, run(0, "console").Out, "/enter?key=")
	assert.Contains(t, run(2, "pool", "add", "Bad Name", quay).Notes, "small letters")

	// Completion knows pools, disks, jobs, formats and layouts.
	for _, c := range []struct{ args, want string }{
		{"look ", "quay-store:"},
		{"look quay-store:", "quay-store:tide-board.raw"},
		{"convert quay-store:tide-board.raw lighthouse-store:", "lighthouse-store:boards/tide-board.vhd"},
		{"pool remove ", "lighthouse-store"},
		{"job receipt ", "1"},
		{"convert a b --as ", "qcow2"},
		{"convert a b --as vhd --layout ", "fixed"},
	} {
		assert.Contains(t, run(0, append([]string{"__complete"}, strings.Split(c.args, " ")...)...).Out, c.want+"\n", c.args)
	}
	assert.Contains(t, run(0, "completion", "bash").Out, "bagaglio")
	run(0, "pool", "remove", "quay-store")
	s.Stop()
	assert.Contains(t, run(1, "pool", "list").Notes, "bagaglio serve")
}

// TestConfiguration: flags weigh more than the environment, which weighs more than the file.
func TestConfiguration(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	dir := t.TempDir()
	file := filepath.Join(dir, "bagaglio.yaml")
	require.NoError(t, os.WriteFile(file, []byte("state: "+s.State+"\n"), 0o600))
	run := func(env string, args ...string) (string, error) {
		cmd := exec.CommandContext(t.Context(), testkit.Binary(t), args...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+dir, "XDG_STATE_HOME="+dir, env)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := run("A=B", "pool", "list", "--config", file)
	require.NoError(t, err, out)
	out, err = run("BAGAGLIO_STATE="+dir, "pool", "list", "--config", file)
	require.Error(t, err, out)
	out, err = run("BAGAGLIO_STATE="+dir, "pool", "list", "--state", s.State)
	require.NoError(t, err, out)
	out, err = run("BAGAGLIO_TOKEN=wrong", "pool", "list", "--state", s.State)
	require.Error(t, err)
	assert.Contains(t, out, "the token is not the one of this service")
	require.NoError(t, os.WriteFile(file, []byte("state: [\n"), 0o600))
	out, err = run("A=B", "pool", "list", "--config", file)
	require.Error(t, err)
	assert.Contains(t, out, "reading the configuration")
}
