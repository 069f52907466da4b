package cli

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/core/report"
	"bagaglio/internal/testkit"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReports: what was done in a time is told as text, JSON, CSV, and signed; a changed one is found out, and a formula in a name stays a text.
func TestReports(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	dir := s.Pool("quay-store")
	for _, name := range []string{"tide-board.raw", "=1+1.raw"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), make([]byte, 1<<20), 0o600))
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
			Kind:        plan.Convert,
			As:          "qcow2",
			Source:      plan.Place{Pool: "quay-store", Path: name},
			Destination: &plan.Place{Pool: "quay-store", Path: name + ".qcow2"},
		}).Id)
	}
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Against: "bf1-" + strings.Repeat("0", 64),
	}).Id)
	out := t.TempDir()
	run := func(code int, args ...string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, out, state, args...)
		require.Equal(t, code, r.Code, "%s: %s", args, r.Notes)
		return r
	}
	text := run(0, "report").Out
	assert.Contains(t, text, "3 jobs from")
	assert.Contains(t, text, "1 failed, 2 proven")
	var r report.Report
	require.NoError(t, json.Unmarshal([]byte(run(0, "report", "--json").Out), &r))
	require.Len(t, r.Items, 3)
	assert.EqualValues(t, 3, r.Receipts)
	assert.Equal(t, "proven", r.Items[0].Disks[0].Outcome)
	assert.True(t, strings.HasPrefix(r.Items[0].Disks[0].Fingerprint, "bf1-"))
	assert.NotEmpty(t, r.Items[0].Compared)
	lines, err := csv.NewReader(strings.NewReader(run(0, "report", "--csv").Out)).ReadAll()
	require.NoError(t, err)
	require.Len(t, lines, 4)
	assert.Equal(t, "quay-store:=1+1.raw", lines[2][5])
	assert.Contains(t, run(0, "report", "--since", "2020-01-01", "--until", "2020-02-01").Out, "0 jobs from")
	assert.Contains(t, run(2, "report", "--since", "yesterday").Notes, "write it like 2026-11-01")
	assert.Contains(t, run(2, "report", "--since", "1h", "--until", "2h").Notes, "is not before")

	signed, key := filepath.Join(out, "november.jws"), filepath.Join(out, "receipts.jwk")
	made := run(0, "report", "--signed").Out
	require.NoError(t, os.WriteFile(signed, []byte(made), 0o600))
	require.NoError(t, os.WriteFile(key, []byte(run(0, "receipt", "key").Out), 0o600))
	assert.Contains(t, run(0, "report", "check", signed, "--key", key).Out, "1 failed, 2 proven")
	parts := strings.Split(made, ".")
	parts[1] = parts[1][:len(parts[1])-2] + "AA"
	require.NoError(t, os.WriteFile(signed, []byte(strings.Join(parts, ".")), 0o600))
	assert.Contains(t, run(1, "report", "check", signed, "--key", key).Notes, "was changed since")

	s.Stop()
	records, err := sqlx.Open("sqlite", filepath.Join(state, "records.sqlite"))
	require.NoError(t, err)
	_, err = records.Exec(
		`UPDATE jobs SET outcome = 'proven', receipt = json_set(receipt, '$.outcome', 'proven', '$.reason', '') WHERE id = 3`,
	)
	require.NoError(t, err)
	_, err = records.Exec(`DELETE FROM seals WHERE job = 2`)
	require.NoError(t, err)
	require.NoError(t, records.Close())
	testkit.Start(t, state)
	text = run(0, "report").Out
	assert.Contains(t, text, "1 changed, 1 not signed, 1 proven", "what the records were changed to is not signed")
	require.NoError(t, json.Unmarshal([]byte(run(0, "report", "--json").Out), &r))
	assert.Contains(t, r.Items[2].Reason, "which says failed")
}
