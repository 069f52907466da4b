package attention

import (
	"context"
	"errors"
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/places"
	"bagaglio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// known are jobs and pools.
type known struct {
	jobs     []store.Job
	pools    []places.Pool
	runs     []store.KeptRun
	consents []store.Consent
}

func (k known) Consents(context.Context, time.Time) ([]store.Consent, error) { return k.consents, nil }
func (k known) FailedRuns(context.Context) ([]store.KeptRun, error)          { return k.runs, nil }

// Jobs are the newest ones: one that runs is older, and not among them.
func (k known) Jobs(context.Context, store.JobQuery) (all []store.Job, err error) {
	for _, j := range k.jobs {
		if j.State != store.Running {
			all = append(all, j)
		}
	}
	return all, nil
}

func (k known) JobsIn(_ context.Context, state store.State) (all []store.Job, err error) {
	for _, j := range k.jobs {
		if j.State == state {
			all = append(all, j)
		}
	}
	return all, nil
}

func (k known) Pools(context.Context) ([]places.Pool, error) { return k.pools, nil }

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

// ago is that long before noon.
func ago(d time.Duration) *time.Time {
	t := noon.Add(-d)
	return &t
}

// TestWhoIsNeeded: what goes on by itself needs nobody, and what is long over; the rest comes in the order of its urgency.
func TestWhoIsNeeded(t *testing.T) {
	to := plan.Plan{Request: plan.Request{Kind: plan.Copy, Destination: &plan.Place{Pool: "seabag", Path: "a.raw"}}}
	removable := &storage.Facts{Removable: true}
	pool := func(name string, free int64, problem error, facts *storage.Facts) places.Pool {
		return places.Pool{Pool: store.Pool{Name: name, Facts: facts}, Space: storage.Space{Total: 1000, Free: free}, Problem: problem}
	}
	k := known{
		jobs: []store.Job{
			{ID: 1, State: store.Asking, Question: &step.Question{Text: "which?"}},
			{ID: 2, State: store.Asking, Question: &step.Question{Text: "kept", Until: noon}},
			{ID: 3, State: store.Asking, Question: &step.Question{Text: "not kept", Until: noon, Trouble: true}, Created: noon},
			{ID: 4, State: store.Paused, Trouble: true, Reason: "the line is cut", Last: &step.Progress{Since: noon.Add(-time.Minute)}},
			{ID: 14, State: store.Paused, Trouble: true, Reason: "the line is cut", Last: &step.Progress{Since: noon.Add(-time.Hour)}},
			{ID: 5, State: store.Paused, Reason: "paused on request"},
			{ID: 6, State: store.Failed, Finished: ago(time.Hour), Reason: "it broke"},
			{ID: 7, State: store.Failed, Finished: ago(96 * time.Hour)},
			{ID: 8, State: store.Done, Outcome: receipt.Damaged, Finished: ago(time.Hour)},
			{ID: 9, State: store.Done, Outcome: receipt.Unproven, Finished: ago(time.Hour)},
			{
				ID: 10, State: store.Done, Outcome: receipt.Unproven, Finished: ago(time.Hour),
				Plan: plan.Plan{Request: plan.Request{Kind: plan.TakeSnapshot}},
			},
			{ID: 11, State: store.Done, Outcome: receipt.Proven, Finished: ago(time.Hour), Plan: to},
			{ID: 12, State: store.Running},
		},
		pools: []places.Pool{
			pool("quay-store", 500, nil, nil), pool("lamp-room", 20, nil, nil), pool("pier", 0, errors.New("no route"), nil),
			pool("seabag", 500, nil, removable), pool("spare-bag", 500, nil, removable), pool("lent-bag", 0, errors.New("not there"), removable),
		},
		runs: []store.KeptRun{
			{Routine: "proofs", Due: noon.Format(time.RFC3339Nano), LeftOut: `["tide-board.raw: it is in use"]`},
			{Routine: "drain", Due: noon.Add(-time.Hour).Format(time.RFC3339Nano), Problem: "there is no room", LeftOut: `[]`},
		},
	}
	all, err := Needs(t.Context(), k, k, noon)
	require.NoError(t, err)
	type seen struct {
		kind Kind
		job  int64
		pool string
	}
	var got []seen
	for _, n := range all {
		got = append(got, seen{n.Kind, n.Job, n.Pool})
		assert.NotEmpty(t, n.Text, "%+v", n)
	}
	assert.Equal(t, []seen{
		{
			Question,
			3,
			"",
		},
		{Question, 1, ""},
		{Stopped, 14, ""},
		{Stopped, 5, ""},
		{Blocked, 0, ""},
		{Blocked, 0, ""},
		{Failed, 6, ""},
		{Doubt, 8, ""},
		{Doubt, 9, ""},
		{Away, 0, "pier"},
		{Full, 0, "lamp-room"},
		{Drive, 0, "seabag"},
	}, got)

	in := plan.Plan{Steps: []plan.Step{{Uses: []plan.Use{{Pool: "seabag", Path: "b.raw"}}}}} // as the disks of a machine are
	for _, again := range []plan.Plan{to, in} {
		busy := known{jobs: append([]store.Job{{ID: 13, State: store.Running, Plan: again}}, k.jobs...), pools: k.pools}
		all, err = Needs(t.Context(), busy, busy, noon)
		require.NoError(t, err)
		assert.NotEqual(t, Drive, all[len(all)-1].Kind, "a job uses it again")
	}
	all, err = Needs(t.Context(), known{}, known{}, noon)
	require.NoError(t, err)
	assert.Empty(t, all)
}
