package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/receipt"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMachinesByTheClient: hosts are added, and a machine moves and is copied, as a technician writes it.
func TestMachinesByTheClient(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	dir := t.TempDir()
	run := func(args ...string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, dir, s.State, args...)
		require.Zero(t, r.Code, "%v: %s%s", args, r.Out, r.Notes)
		return r
	}
	quay, lighthouse := standins.Start(t, t.TempDir(), standin.Traits{}), standins.Start(t, t.TempDir(), standin.Traits{Folders: true})
	for name, h := range map[string]*standins.Host{"quay": quay, "lighthouse": lighthouse} {
		key := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(key, []byte(h.Key), 0o600))
		run("host", "add", name, h.Files, "--user", "crew", "--key", key, "--key-is", h.HostKey, "--runs", "standin", "--machines", h.URL)
	}
	run("pool", "add", "harbour", quay.Folder, "--host", "quay")
	run("pool", "add", "lamp-room", lighthouse.Folder, "--host", "lighthouse")
	quay.Ticketing(t, append(daemon.Boot(true), make([]byte, 1<<20)...))
	run("machine", "start", "quay:ticketing")

	stopped := testkit.Run(t, dir, s.State, "machine", "move", "quay:ticketing", "lighthouse", "--pool", "lamp-room", "--plan")
	assert.Contains(t, stopped.Out, "quay:ticketing is running")
	assert.Contains(t, stopped.Out, "(--stop --start)")
	shown := run("machine", "move", "quay:ticketing", "lighthouse", "--pool", "lamp-room", "--as", "qcow2", "--stop", "--start", "--plan").Out
	assert.Regexp(t, `\* disk 1, format +raw +qcow2`, shown)
	assert.Regexp(t, `  memory +32 MiB \(33,554,432 bytes\) +32 MiB`, shown)

	var r receipt.Receipt
	out := run(
		"machine",
		"move",
		"quay:ticketing",
		"lighthouse",
		"--pool",
		"lamp-room",
		"--as",
		"qcow2",
		"--stop",
		"--start",
		"--yes",
		"--json",
	).Out
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.True(t, r.Machine.CameUp)
	assert.Len(t, r.Parts, 1)
	text := run("machine", "copy", "lighthouse:ticketing", "quay", "--pool", "harbour", "--name", "trial", "--stop", "--yes").Out
	assert.Contains(t, text, "PROVEN")
	assert.Regexp(t, `Disk 1 +proven: lamp-room:ticketing/ticketing.qcow2 \(qcow2, thin\) -> harbour:trial/ticketing.qcow2`, text)
	assert.Contains(t, text, "it was not started")

	differs := run("machine", "compare", "lighthouse:ticketing", "quay:trial").Out
	assert.Regexp(t, `name +ticketing +trial`, differs)
	assert.Regexp(t, `network card 1, MAC +52:54:00:00:00:01 +52:54:00:`, differs)
	assert.Equal(t, "[]\n", run("machine", "compare", "quay:trial", "quay:trial", "--json").Out)
	assert.Contains(t, run("machine", "forget", "quay:trial").Notes, "does not know trial any more")
	file := filepath.Join(dir, "spare.machine.yaml")
	spare := standins.Definition("spare", "99999999-39b4-4e4b-9a53-6c3b5ad0a8f1", filepath.Join(quay.Folder, "ticketing.raw"), "raw")
	require.NoError(t, os.WriteFile(file, []byte(spare), 0o600))
	run("machine", "add", "quay", file)
	assert.Contains(t, run("machine", "list", "quay").Out, "quay:spare")
	again := testkit.Run(t, dir, s.State, "machine", "add", "quay", file)
	assert.NotZero(t, again.Code)
	assert.Contains(t, again.Notes, "has a machine of that name or UUID already")
	run("machine", "start", "quay:spare")
	assert.Contains(t, testkit.Run(t, dir, s.State, "machine", "forget", "quay:spare").Notes, "only one that is off is forgotten")

	wrong := testkit.Run(t, dir, s.State, "machine", "move", "ticketing", "lighthouse", "--pool", "lamp-room")
	assert.Equal(t, 2, wrong.Code)
	assert.Contains(t, wrong.Notes, "written HOST:NAME")
	wrong = testkit.Run(t, dir, s.State, "machine", "move", "quay:trial", "lighthouse")
	assert.Contains(t, wrong.Notes, "--pool POOL")
}
