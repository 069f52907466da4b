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

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// TestReceiptsAreHeldTogether: what somebody changes in the records afterwards is seen, also by one who only kept the key
// and a head.
func TestReceiptsAreHeldTogether(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay := t.TempDir()
	disk(t, filepath.Join(quay, "tide-board.raw"), 8<<20)
	run := func(code int, args string) testkit.Result {
		t.Helper()
		r := testkit.Run(t, quay, state, strings.Fields(args)...)
		require.Equal(t, code, r.Code, "%s: %s", args, r.Notes)
		return r
	}
	run(0, "pool add quay-store "+quay)
	run(0, "convert quay-store:tide-board.raw quay-store:tide-board.qcow2 --yes")
	run(4, "prove quay-store:tide-board.raw --against bf1-"+strings.Repeat("0", 64))
	run(0, "fingerprint quay-store:tide-board.raw")
	assert.Contains(t, run(0, "receipt check").Out, "3 receipts, each as it was signed")
	var found struct {
		Receipts  int
		Head, Key string
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "receipt check --json").Out), &found))
	assert.Equal(t, 3, found.Receipts)
	run(0, "receipt check --holds "+found.Head)
	run(4, "receipt check --holds "+strings.ToLower(found.Head)+"x")

	records := filepath.Join(state, "records.sqlite")
	for _, change := range []struct{ sql, says, undo string }{
		{`UPDATE jobs SET receipt = replace(receipt, 'failed', 'proven') WHERE id = 2`, "is not the one that was signed", `UPDATE jobs SET receipt = replace(receipt, '"outcome":"proven"', '"outcome":"failed"') WHERE id = 2`},
		{`UPDATE seals SET number = number + 10 WHERE number = 2`, "one was taken out or put in", `UPDATE seals SET number = 2 WHERE number = 12`},
		{`CREATE TABLE kept AS SELECT * FROM seals; UPDATE seals SET seal = replace(seal, substr(seal, 100, 3), 'AAA') WHERE number = 2`, "was changed since",
			`UPDATE seals SET seal = (SELECT seal FROM kept WHERE number = 2) WHERE number = 2; DROP TABLE kept`},
	} {
		s.Stop()
		alter(t, records, change.sql)
		s = testkit.Start(t, state)
		assert.Contains(t, run(4, "receipt check").Notes, change.says)
		s.Stop()
		alter(t, records, change.undo)
		s = testkit.Start(t, state)
		run(0, "receipt check")
	}
	// The public key is had by a command, and is all that a check needs.
	key := filepath.Join(quay, "receipts.jwk")
	require.NoError(t, os.WriteFile(key, []byte(run(0, "receipt key").Out), 0o600))
	assert.NotContains(t, run(0, "receipt key").Out, `"d"`, "the private part")
	run(0, "receipt check --key "+key)
	// The last ones cannot be taken out: their head is kept outside of the records, while the service runs and when it does not.
	alter(t, records, `DELETE FROM seals WHERE number = 3`)
	assert.Contains(t, run(4, "receipt check").Notes, "the last receipt is number 3, and the chain ends with number 2")
	s.Stop()
	testkit.Start(t, state)
	assert.Contains(t, run(4, "receipt check").Notes, "some were taken out at its end")
	// Nor are they made up for by new ones.
	run(0, "fingerprint quay-store:tide-board.raw")
	assert.Contains(t, run(4, "receipt check").Notes, "after receipt 2 comes number 4")
	assert.Contains(t, run(0, "log").Out, "receipt 4 ")
	// One that was put in is found, and stands in nobody's way.
	alter(t, records, `INSERT INTO seals (number, job, seal) VALUES (5, 1, 'x.y.z')`)
	run(0, "fingerprint quay-store:tide-board.raw")
	run(4, "receipt check")
	assert.Contains(t, run(0, "log").Out, "receipt 6 ")
	// Another key than the one that was kept.
	key = filepath.Join(quay, "other.jwk")
	require.NoError(t, os.WriteFile(key, []byte(`{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`), 0o600))
	assert.Contains(t, run(4, "receipt check --key "+key).Notes, "not made with this key")
}

func alter(t *testing.T, records, sql string) {
	t.Helper()
	db, err := sqlx.Open("sqlite", records+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), sql)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// TestEveryJobEndsWithAReceipt: also one that was killed with its service, and one that never began.
func TestEveryJobEndsWithAReceipt(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	s := testkit.Start(t, state)
	quay := s.Pool("quay-store")
	disk(t, filepath.Join(quay, "large.raw"), 1<<30)
	f, err := os.OpenFile(filepath.Join(quay, "large.raw"), os.O_WRONLY, 0)
	require.NoError(t, err)
	chunk := []byte(strings.Repeat("timetable ", 1<<20))
	for i := range int64(60) {
		_, err := f.WriteAt(chunk, i*16<<20)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	start := func(name string) string {
		p := planned(t, s, name)
		j, err := s.Start(t.Context(), api.NewJob{Plan: p})
		require.NoError(t, err)
		return j.Id
	}
	first, second, third := start("a.qcow2"), start("b.qcow2"), start("c.qcow2") // two run at once, the third one waits
	_, err = s.Cancel(t.Context(), third)
	require.NoError(t, err)
	s.Kill()
	s = testkit.Start(t, state)
	_, err = s.Cancel(t.Context(), second) // it goes on after the kill
	require.NoError(t, err)
	for id, want := range map[string]string{first: "proven", second: "cancelled", third: "cancelled"} {
		for _, err := range s.Follow(t.Context(), id) {
			require.NoError(t, err)
		}
		r, err := s.Receipt(t.Context(), id)
		require.NoError(t, err, id)
		assert.Equal(t, want, string(r.Outcome))
		assert.Equal(t, "large.raw", r.Source.Place.Path)
	}
	r := testkit.Run(t, quay, state, "receipt", "check")
	require.Zero(t, r.Code, r.Notes)
	assert.Contains(t, r.Out, "3 receipts")
}

// planned makes the plan for a compressed copy of the large disk, which takes a while, and returns its id.
func planned(t *testing.T, s *testkit.Service, name string) string {
	t.Helper()
	p, err := s.Plan(t.Context(), plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "large.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: name},
		As:          "qcow2",
		Layout:      "compressed",
	})
	require.NoError(t, err)
	require.False(t, p.Blocked, "%+v", p.Plan.Checks)
	return p.Id
}
