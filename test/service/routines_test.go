package service

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func routineOf(t *testing.T, text string) (r routine.Routine) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &r))
	return r
}

// comes waits for what comes of the newest run of a routine.
func comes(t *testing.T, s *testkit.Service, name string, runs int) (r api.Routine) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		r, err = s.Routine(t.Context(), name)
		return assert.NoError(t, err) && len(r.Runs) == runs && r.Runs[0].Over
	}, 30*time.Second, 20*time.Millisecond)
	return r
}

const proofs = `{"name": "proofs", "blanks": {"pool": "quay-store"}, "each": {"disks_of": "<pool>", "tagged": true}, "leave_out": true,
	"requests": [{"kind": "prove", "source": {"pool": "<pool>", "path": "<path>"}, "tag": "beside"}]`

// TestARoutine is kept, planned and done: for each disk that has a tag, and without what cannot be done, which needs somebody.
func TestARoutine(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := s.Pool("quay-store")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "c.raw"), make([]byte, 1<<20), 0o600))
	for _, name := range []string{"a.raw", "b.raw"} { // the copy of a disk has a tag
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
			Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "c.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: name},
		}).Id)
	}
	kept, err := s.PutRoutine(t.Context(), routineOf(t, proofs+`}`))
	require.NoError(t, err)
	assert.Nil(t, kept.Next)
	g, err := s.PlanRoutine(t.Context(), "proofs", api.NewRun{})
	require.NoError(t, err)
	require.Len(t, g.Parts, 2)
	_, err = s.RunRoutine(t.Context(), "proofs", api.NewRun{Blanks: &map[string]string{"pol": "x"}})
	require.ErrorContains(t, err, "no blank <pol>")
	_, err = s.RunRoutine(t.Context(), "proofs", api.NewRun{})
	require.NoError(t, err)
	r := comes(t, s, "proofs", 1)
	require.Nil(t, r.Runs[0].Problem)
	group, err := s.Group(t.Context(), *r.Runs[0].Group)
	require.NoError(t, err)
	require.Len(t, group.Jobs, 2)
	for _, j := range group.Jobs {
		testkit.Proven(t, s.Service, j.Id)
	}

	require.NoError(t, os.WriteFile(filepath.Join(dir, "copy-of-b.raw"), nil, 0o600)) // stands in the way
	_, err = s.PutRoutine(
		t.Context(),
		routineOf(t, `{"name": "proofs", "blanks": {"pool": "quay-store"}, "each": {"disks_of": "<pool>", "tagged": true}, "leave_out": true,
		"requests": [{"kind": "copy", "source": {"pool": "<pool>", "path": "<path>"}, "destination": {"pool": "<pool>", "path": "copy-of-<disk>.raw"}}]}`),
	)
	require.NoError(t, err)
	_, err = s.RunRoutine(t.Context(), "proofs", api.NewRun{})
	require.NoError(t, err)
	r = comes(t, s, "proofs", 2)
	require.NotNil(t, r.Runs[0].LeftOut, "%+v", r.Runs[0])
	assert.Len(t, *r.Runs[0].LeftOut, 1)
	assert.Contains(t, (*r.Runs[0].LeftOut)[0], "b.raw")
	group, err = s.Group(t.Context(), *r.Runs[0].Group)
	require.NoError(t, err)
	assert.Len(t, group.Jobs, 1)
	needs, err := s.Needs(t.Context())
	require.NoError(t, err)
	require.Len(t, needs, 1)
	assert.Equal(t, "proofs", *needs[0].Routine)
	_, err = s.RunRoutine(t.Context(), "proofs", api.NewRun{Blanks: &map[string]string{"pool": "quey-store"}})
	require.NoError(t, err)
	r = comes(t, s, "proofs", 3)
	require.NotNil(t, r.Runs[0].Problem)
	assert.Contains(t, *r.Runs[0].Problem, "quey-store")
	require.NoError(t, s.RemoveRoutine(t.Context(), "proofs"))
	_, err = s.Routine(t.Context(), "proofs")
	require.ErrorContains(t, err, "not found")
}

// TestARoutineForMachines: its requests are made for each machine of a host.
func TestARoutineForMachines(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	quay.Ticketing(t, bootable())
	_, err := s.PutRoutine(
		t.Context(),
		routineOf(t, `{"name": "empty-a-host", "blanks": {"from": "", "pool": "lamp-room"}, "each": {"machines_of": "<from>"},
		"requests": [{"kind": "move-machine", "machine": "<machine>", "to": "lighthouse", "destination": {"pool": "<pool>", "path": ""}, "name": "<name>-moved"}]}`),
	)
	require.NoError(t, err)
	_, err = s.RunRoutine(t.Context(), "empty-a-host", api.NewRun{})
	require.ErrorContains(t, err, "fill in <from>")
	_, err = s.RunRoutine(t.Context(), "empty-a-host", api.NewRun{Blanks: &map[string]string{"from": "quay"}})
	require.NoError(t, err)
	r := comes(t, s, "empty-a-host", 1)
	require.Nil(t, r.Runs[0].Problem)
	group, err := s.Group(t.Context(), *r.Runs[0].Group)
	require.NoError(t, err)
	require.Len(t, group.Jobs, 1)
	testkit.Proven(t, s.Service, group.Jobs[0].Id)
	_, err = s.Machine(t.Context(), "lighthouse", "ticketing-moved")
	require.NoError(t, err)
}

// TestWhatTheTimeComesFor is done once, also where the service did not run then, unless it is said to be skipped; and not while the last time is not over.
func TestWhatTheTimeComesFor(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := s.Pool("quay-store")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.raw"), make([]byte, 1<<20), 0o600))
	at := func(name, more string) routine.Routine {
		once := time.Now().Add(1500 * time.Millisecond).UTC().Format(time.RFC3339Nano)
		return routineOf(
			t,
			`{"name": "`+name+`", "requests": [{"kind": "copy", "source": {"pool": "quay-store", "path": "a.raw"}, "destination": {"pool": "quay-store", "path": "`+name+`.raw"}}],
			"times": {"once": "`+once+`"`+more+`}}`,
		)
	}
	kept, err := s.PutRoutine(t.Context(), at("soon", ""))
	require.NoError(t, err)
	require.NotNil(t, kept.Next)
	r := comes(t, s, "soon", 1)
	require.Nil(t, r.Runs[0].Problem)
	assert.Nil(t, r.Next, "it is once")
	group, err := s.Group(t.Context(), *r.Runs[0].Group)
	require.NoError(t, err)
	assert.Equal(t, "routine soon", *group.Jobs[0].Who)
	_, err = s.PutRoutine(t.Context(), at("missed", ""))
	require.NoError(t, err)
	_, err = s.PutRoutine(t.Context(), at("skipped", `, "missed": "skip"`))
	require.NoError(t, err)
	s.Kill()
	set := func(query string) {
		t.Helper()
		records, err := sqlx.Open("sqlite", filepath.Join(s.State, "records.sqlite"))
		require.NoError(t, err)
		defer records.Close()
		done, err := records.Exec(query)
		require.NoError(t, err)
		n, err := done.RowsAffected()
		require.NoError(t, err)
		require.Positive(t, n)
	}
	set(`UPDATE routines SET next = '2026-01-01T02:00:00.000000000Z' WHERE name IN ('missed', 'skipped')`) // long ago
	s = testkit.Start(t, s.State)
	r = comes(t, s, "missed", 1)
	require.Nil(t, r.Runs[0].Problem)
	require.NotNil(t, r.Runs[0].Group)
	r = comes(t, s, "skipped", 1)
	assert.Contains(t, *r.Runs[0].Problem, "its time was missed")

	daily := routineOf(
		t,
		`{"name": "daily", "requests": [{"kind": "copy", "source": {"pool": "quay-store", "path": "a.raw"}, "destination": {"pool": "quay-store", "path": "daily.raw"}}],
		"hours": "`+
			time.Now().
				Add(2*time.Hour).
				Format("15:04")+
			`-`+time.Now().
			Add(3*time.Hour).
			Format("15:04")+
			`", "times": {"cron": "0 2 * * *"}}`,
	)
	_, err = s.PutRoutine(t.Context(), daily)
	require.NoError(t, err)
	_, err = s.RunRoutine(t.Context(), "daily", api.NewRun{})
	require.NoError(t, err)
	r = comes(t, s, "daily", 1)
	require.NotNil(t, r.Runs[0].Group, "it waits for its hours")
	s.Stop()
	set(`UPDATE routines SET next = '2026-01-01T02:00:00.000000000Z' WHERE name = 'daily'`)
	s = testkit.Start(t, s.State)
	r = comes(t, s, "daily", 2)
	assert.Contains(t, *r.Runs[0].Problem, "the last time is not over yet")
	require.NotNil(t, r.Next)
	assert.True(t, r.Next.After(time.Now()))
}
