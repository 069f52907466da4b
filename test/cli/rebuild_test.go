package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAfterADisaster: the state folder is lost, with a job in the middle. What the pools were is known again with their rules, what they held is
// restored, disks are proven by their tags, and what is missing is named, but not what had moved on. A receipt that was changed is not gone by.
func TestAfterADisaster(t *testing.T) {
	t.Parallel()
	world := t.TempDir()
	state, quay, lamps := filepath.Join(world, "state"), filepath.Join(world, "quay"), filepath.Join(world, "lamps")
	require.NoError(t, os.Mkdir(quay, 0o700))
	require.NoError(t, os.Mkdir(lamps, 0o700))
	disk(t, filepath.Join(quay, "tide-board.raw"), 4<<20)
	disk(t, filepath.Join(quay, "cargo-ledger.raw"), 64<<20)
	run := func(code int, args string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, world, state, strings.Fields(args)...)
		require.Equal(t, code, r.Code, "%s: %s%s", args, r.Out, r.Notes)
		return r
	}
	s := testkit.Start(t, state)
	run(0, "pool add quay-store "+quay+" --nested")
	run(0, "pool add lamp-room "+lamps+" --trait dynamic-only")
	run(0, "convert quay-store:tide-board.raw quay-store:first.qcow2 --yes")
	run(0, "convert quay-store:tide-board.raw quay-store:board.qcow2 --yes")
	run(0, "convert quay-store:tide-board.raw quay-store:board.qcow2 --replace --yes")
	run(0, "move quay-store:first.qcow2 lamp-room:first.qcow2 --yes")
	run(0, "convert quay-store:tide-board.raw lamp-room:lost.qcow2 --yes")
	run(0, "convert quay-store:tide-board.raw lamp-room:spoilt.qcow2 --yes")
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 1 << 20})
	slow := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"},
		Destination: &plan.Place{Pool: "lamp-room", Path: "ledger.qcow2"},
	})
	testkit.Await(t, s.Service, slow.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
	s.Kill()
	require.NoError(t, os.RemoveAll(state))
	require.NoError(t, os.Remove(filepath.Join(lamps, "lost.qcow2")))
	signed, err := filepath.Glob(filepath.Join(lamps, ".bagaglio/receipts/*/*.jws"))
	require.NoError(t, err)
	require.Len(t, signed, 3)
	text, err := os.ReadFile(signed[2])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(signed[2], append(text[:100], append([]byte("AAA"), text[103:]...)...), 0o600))

	testkit.Start(t, state)
	before := run(0, "rebuild "+quay+" "+lamps+" --plan").Out
	assert.Contains(t, before, "the pool quay-store")
	assert.Equal(t, "[]\n", run(0, "pool list --json").Out, "a plan changes nothing")
	out := run(0, "rebuild "+quay+" "+lamps).Out
	assert.Contains(t, out, "the pool lamp-room")
	assert.Contains(t, out, "of jobs 1 to 3")
	assert.Contains(t, out, "1 held")
	assert.Contains(t, out, "Missing: lamp-room:lost.qcow2, which job 5 made (proven)")
	assert.NotContains(t, out, "Missing: quay-store:first.qcow2", "it moved on")
	assert.Contains(t, out, "It is not gone by")
	assert.Contains(t, out, "Unfinished: .bagaglio/staging/")
	var pools []struct {
		Name  string
		Rules plan.Rules
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "pool list --json").Out), &pools))
	require.Len(t, pools, 2)
	assert.Equal(t, []string{"dynamic-only"}, pools[0].Rules.Traits, pools[0].Name)
	assert.Contains(t, run(0, "prove lamp-room:first.qcow2").Out, "PROVEN")
	var held []struct{ Pool, ID, Path string }
	require.NoError(t, json.Unmarshal([]byte(run(0, "held list --json").Out), &held))
	require.Len(t, held, 1)
	assert.Equal(t, "board.qcow2", held[0].Path)
	run(0, "held restore quay-store "+held[0].ID+" --swap")

	// Once more, nothing is done twice; a folder that nobody knows is said to be that.
	assert.Contains(t, run(0, "rebuild "+quay+" "+lamps).Out, "Known again")
	require.NoError(t, os.Mkdir(filepath.Join(world, "attic"), 0o700))
	assert.Contains(t, run(1, "rebuild "+filepath.Join(world, "attic")).Out, "nothing there says what pool it was")
	assert.Contains(t, run(2, "rebuild "+state).Notes, "belongs to the service itself")
}
