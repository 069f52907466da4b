package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatMayHaveBeenMeant is said for commands, flags, formats and pools.
func TestWhatMayHaveBeenMeant(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	dir := s.Pool("quay-store")
	for line, want := range map[string]string{
		"convrt a b":                "did you mean convert?",
		"job lst":                   "did you mean list",
		"convert --layuot":          "did you mean --layout?",
		"convert ./a ./b --as qcow": "did you mean qcow2?",
		"convert quey-store:a.raw quay-store:b.qcow2 --as qcow2": "did you mean quay-store?",
		"convert ./a ./b --as qcow2 --compression zlip":          "none of zlib, zstd",
		"convert ./a ./b --as qcow2 --by annex":                  "who does it is asked for of a service",
		"convert ./a ./b --as qcow2 --detach":                    "work on the spot ends with this command",
		"do nowhere.yaml":                                        "no such file",
	} {
		r := testkit.Run(t, dir, state, strings.Fields(line)...)
		assert.NotZero(t, r.Code, line)
		assert.Contains(t, r.Notes, want, line)
	}
}

// TestRequestsInFiles: in JSON and YAML, from a file and the standard input, also to take a job back.
func TestRequestsInFiles(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	dir := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(dir, "gate.raw"), 1<<20)
	file := filepath.Join(t.TempDir(), "night.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }

	write("kind: convert\nas: qcow2\nsource: {pool: quay-store, path: gate.raw}\ndestination: {pool: quay-store, path: gate.qcow2}\n")
	r := testkit.Run(t, dir, state, "do", file, "--plan")
	assert.Zero(t, r.Code, r.Notes)
	assert.NoFileExists(t, filepath.Join(dir, "gate.qcow2"))
	r = testkit.Run(t, dir, state, "do", file, "--json")
	require.Zero(t, r.Code, r.Notes)
	var done receipt.Receipt
	require.NoError(t, json.Unmarshal([]byte(r.Out), &done))
	assert.Equal(t, receipt.Proven, done.Outcome)

	// What stands in the way is told to programs too.
	r = testkit.Run(t, dir, state, "do", file, "--json")
	assert.Equal(t, 3, r.Code)
	var problem api.Problem
	require.NoError(t, json.Unmarshal([]byte(r.Out), &problem))
	assert.Equal(t, api.ProblemBlocked, problem.Type)
	assert.NotEmpty(t, (*problem.Checks)[0].Remedies)

	write(`{"kind": "undo", "job": "1"}`)
	r = testkit.Run(t, dir, state, "do", file)
	assert.Zero(t, r.Code, r.Notes)
	assert.NoFileExists(t, filepath.Join(dir, "gate.qcow2"))

	write("kind: prove\nsource: {path: ./gate.raw}\nas: vhd\n")
	r = testkit.Run(t, dir, state, "do", file, "--json")
	assert.Equal(t, 2, r.Code)
	assert.Contains(t, r.Notes, `takes no "as"`)
	require.NoError(t, json.Unmarshal([]byte(r.Out), &problem))
	assert.Equal(t, api.ProblemInvalid, problem.Type)
	write("- a\n- list\n")
	assert.Equal(t, 2, testkit.Run(t, dir, state, "do", file).Code)
}

// TestUndoFromTheCommandLine, and work whose end is not waited for.
func TestUndoFromTheCommandLine(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	dir := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(dir, "gate.raw"), 1<<20)
	r := testkit.Run(t, dir, state, "move", "quay-store:gate.raw", "quay-store:old/kiosk.raw", "--detach")
	require.Zero(t, r.Code, r.Notes)
	assert.Equal(t, "1\n", r.Out)
	testkit.Await(t, s.Service, "1")
	assert.NoFileExists(t, filepath.Join(dir, "gate.raw"))
	r = testkit.Run(t, dir, state, "job", "undo", "1", "--plan")
	assert.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "quay-store:gate.raw")
	r = testkit.Run(t, dir, state, "job", "undo", "1", "--yes")
	assert.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "PROVEN")
	assert.FileExists(t, filepath.Join(dir, "gate.raw"))
	r = testkit.Run(t, dir, state, "job", "again", "1", "--wait")
	assert.Zero(t, r.Code, r.Notes)
	assert.NoFileExists(t, filepath.Join(dir, "gate.raw"))
	assert.Equal(t, testkit.Run(t, dir, state, "version").Out, testkit.Run(t, dir, state, "--version").Out)

	r = testkit.Run(t, dir, state, "convert", "--help")
	assert.NotContains(t, r.Out, "--past-damage")
	r = testkit.Run(t, dir, state, "convert", "--help-all")
	assert.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "--past-damage")
	assert.Contains(t, r.Out, "--sector-size")
}

// TestNow tells what needs somebody, with the commands by which questions are answered, and what has ended.
func TestNow(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	testkit.Start(t, state)
	quay := t.TempDir()
	disk(t, filepath.Join(quay, "tide-board.raw"), 1<<20)
	run := func(code int, args string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, quay, state, strings.Fields(args)...)
		require.Equal(t, code, r.Code, "%s: %s", args, r.Notes)
		return r
	}
	assert.Equal(t, "Nothing needs you.\n", run(0, "now").Out)
	run(0, "pool add quay-store "+quay)
	run(0, "convert quay-store:tide-board.raw quay-store:tide-board.qcow2 --yes")
	run(4, "prove quay-store:tide-board.raw --against bf1-"+strings.Repeat("0", 64))
	out := run(0, "now").Out
	assert.Contains(t, out, "FAILED    job 2, prove quay-store:tide-board.raw: not proven")
	assert.Contains(t, out, "Ended within a day")
	assert.Regexp(t, `(?m)^1 +done, proven +convert +quay-store:tide-board.raw +1.0 MiB +1 s `, out)
	var told struct {
		Needs []struct{ Kind, Text string }
		Ended []struct{ ID string }
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "now --json").Out), &told))
	require.Len(t, told.Needs, 1)
	assert.Equal(t, "failed", told.Needs[0].Kind)
	assert.Len(t, told.Ended, 2)
}

// TestTokens are made, used, listed with when that was, and revoked.
func TestTokens(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	run := func(code int, args string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, t.TempDir(), state, strings.Fields(args)...)
		require.Equal(t, code, r.Code, "%s: %s", args, r.Notes)
		return r
	}
	secret := strings.TrimSpace(run(0, "token add night-watch --role viewer --days 30").Out)
	assert.Len(t, secret, 64)
	assert.Contains(t, run(1, "token add night-watch").Notes, "taken already, by another token")
	assert.Contains(t, run(2, "token add Night!").Notes, "small letters")
	for _, days := range []string{"0", "-5", "4000"} { // not one that never expires
		assert.Contains(t, run(2, "token add crew --days "+days).Notes, "after 1 to 3650 days")
	}
	assert.Contains(t, run(2, "token add crew --role captain").Notes, "captain")
	assert.Regexp(t, `night-watch +viewer +.* never\n`, run(0, "token list").Out)
	watch, err := client.Dial(s.Address, secret)
	require.NoError(t, err)
	_, err = watch.Jobs(t.Context(), 1)
	require.NoError(t, err)
	require.ErrorContains(t, watch.RevokeToken(t.Context(), "night-watch"), "takes the role admin, and you are viewer")
	assert.NotContains(t, run(0, "token list").Out, "never")
	run(0, "token revoke night-watch")
	_, err = watch.Jobs(t.Context(), 1)
	require.ErrorContains(t, err, "has expired")
	run(1, "token revoke night-watch")
}

// TestPeople are let in with a password that is a line of the standard input, and not one of the command.
func TestPeople(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	testkit.Start(t, state)
	run := func(password, args string) (out string, err error) {
		cmd := exec.CommandContext(t.Context(), testkit.Binary(t), strings.Fields(args)...)
		cmd.Env = append(os.Environ(), "BAGAGLIO_STATE="+state)
		cmd.Stdin = strings.NewReader(password)
		b, err := cmd.CombinedOutput()
		return string(b), err
	}
	out, err := run("nine gulls on a mast\n", "person add harbour-master --role operator")
	require.NoError(t, err, out)
	assert.Contains(t, out, "harbour-master signs in as operator.")
	out, err = run("", "person add crew")
	require.Error(t, err)
	assert.Contains(t, out, "give the password as a line")
	out, err = run("", "person set harbour-master")
	require.Error(t, err)
	assert.Contains(t, out, "at least one of the flags")
	out, err = run("", "person set harbour-master --role viewer")
	require.NoError(t, err, out)
	out, err = run("", "person list")
	require.NoError(t, err, out)
	assert.Regexp(t, `harbour-master +viewer +.* never\n`, out)
	out, err = run("", "session list")
	require.NoError(t, err, out)
	assert.Contains(t, out, "SESSION")
	out, err = run("", "session end none")
	require.Error(t, err)
	assert.Contains(t, out, "not found")
	out, err = run("", "person remove harbour-master")
	require.NoError(t, err, out)
	out, err = run("", "person remove harbour-master")
	require.Error(t, err)
	assert.Contains(t, out, "not found")
}
