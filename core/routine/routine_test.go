package routine

import (
	"encoding/json"
	"testing"
	"time"

	"bagaglio/core/plan"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t testing.TB, text string) (r Routine) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &r))
	return r
}

// TestBlanksAreFilledIn with what is said, with what they have by themselves, and with the names of things.
func TestBlanksAreFilledIn(t *testing.T) {
	r := read(t, `{"name": "night", "blanks": {"pool": "quay-store", "to": ""}, "each": {"disks_of": "<pool>"}, "at_once": 2,
		"requests": [{"kind": "copy", "source": {"pool": "<pool>", "path": "<path>"}, "destination": {"pool": "<to>", "path": "copies/<disk>.raw"}}]}`)
	require.NoError(t, r.Validate())
	_, err := r.Values(nil)
	require.ErrorContains(t, err, "fill in <to>")
	_, err = r.Values(map[string]string{"too": "seabag"})
	require.ErrorContains(t, err, "no blank <too>; it has [pool to]")
	values, err := r.Values(map[string]string{"to": "sea<path>bag"})
	require.NoError(t, err)
	each, err := r.For(values)
	require.NoError(t, err)
	assert.Equal(t, "quay-store", each.DisksOf)
	g, err := r.Group(values, []map[string]string{{"path": "a/b.raw", "disk": "b"}, {"path": "<to>.raw", "disk": "<to>"}})
	require.NoError(t, err)
	require.Len(t, g.Requests, 2)
	assert.Equal(t, 2, g.AtOnce)
	assert.Equal(
		t,
		plan.Place{Pool: "sea<path>bag", Path: "copies/b.raw"},
		*g.Requests[0].Destination,
		"what is filled in is not looked through",
	)
	assert.Equal(t, plan.Place{Pool: "quay-store", Path: "<to>.raw"}, g.Requests[1].Source)
	g, err = r.Group(values, nil)
	require.NoError(t, err)
	assert.Empty(t, g.Requests)
}

func TestRoutinesThatMakeNoSense(t *testing.T) {
	prove := `"requests": [{"kind": "prove", "source": {"pool": "quay-store", "path": "a.raw"}}]`
	for text, want := range map[string]string{
		`{"name": "Night!", ` + prove + `}`:                                                 "small letters",
		`{"name": "a"}`:                                                                     "is of requests",
		`{"name": "a", "balance": {}, ` + prove + `}`:                                       "is of requests",
		`{"name": "a", "blanks": {"path": "x"}, ` + prove + `}`:                             "cannot be called",
		`{"name": "a", "each": {}, ` + prove + `}`:                                          "for each of the disks",
		`{"name": "a", "each": {"disks_of": "x", "machines_of": "y"}, ` + prove + `}`:       "for each of the disks",
		`{"name": "a", "each": {"disks_of": "<where>"}, ` + prove + `}`:                     "what <where> is",
		`{"name": "a", "requests": [{"kind": "prove", "sauce": {}}]}`:                       "sauce",
		`{"name": "a", "requests": [{"kind": "<what>"}]}`:                                   "what <what> is",
		`{"name": "a", "requests": [{"kind": "prove", "source": {"path": "<disk>"}}]}`:      "what <disk> is",
		`{"name": "a", "balance": {"kind": "drain", "pool": "x"}}`:                          "pool",
		`{"name": "a", "times": {}, ` + prove + `}`:                                         "once, or at the times",
		`{"name": "a", "times": {"cron": "61 * * * *"}, ` + prove + `}`:                     "no cron line",
		`{"name": "a", "times": {"cron": "0 0 30 2 *"}, ` + prove + `}`:                     "never comes",
		`{"name": "a", "times": {"cron": "@daily x"}, ` + prove + `}`:                       "no cron line",
		`{"name": "a", "times": {"cron": "0 2 * * *", "zone": "Quay/Side"}, ` + prove + `}`: "Europe/Rome",
		`{"name": "a", "times": {"cron": "0 2 * * *", "except": ["1.5."]}, ` + prove + `}`:  "no day",
		`{"name": "a", "times": {"cron": "0 2 * * *", "missed": "cry"}, ` + prove + `}`:     "made good",
		`{"name": "a", "blanks": {"b": ""}, "times": {"cron": "0 2 * * *"}, ` + prove + `}`: "nobody is there",
		`{"name": "a", "at_once": -1, ` + prove + `}`:                                       "a number",
	} {
		err := read(t, text).Validate()
		require.ErrorIs(t, err, plan.ErrRequest, text)
		assert.ErrorContains(t, err, want, text)
	}
}

// TestWhenItIsDone: in its zone, over the change of the clocks, and not on the days that are left out.
func TestWhenItIsDone(t *testing.T) {
	at := func(text string) time.Time {
		x, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return x
	}
	once := at("2026-12-01T02:00:00Z")
	for _, c := range []struct {
		times       Times
		after, want string
	}{
		{Times{Cron: "30 2 1 * *", Zone: "UTC"}, "2026-11-30T10:00:00Z", "2026-12-01T02:30:00Z"},
		{Times{Cron: "30 2 1 * *", Zone: "Europe/Rome"}, "2026-11-30T10:00:00Z", "2026-12-01T01:30:00Z"},
		{Times{Cron: "30 2 * * *", Zone: "Europe/Rome"}, "2027-03-27T12:00:00Z", "2027-03-29T00:30:00Z"}, // 02:30 is not, on the 28th
		{Times{Cron: "0 22 * * 1-5", Zone: "UTC", Except: []string{"2026-12-01", "2026-12-02"}}, "2026-11-30T22:00:00Z", "2026-12-03T22:00:00Z"},
		{Times{Once: &once}, "2026-11-30T10:00:00Z", "2026-12-01T02:00:00Z"},
		{Times{Once: &once}, "2026-12-01T02:00:00Z", ""},
	} {
		next, ok := c.times.Next(at(c.after))
		if c.want == "" {
			assert.False(t, ok)
			continue
		}
		require.True(t, ok)
		assert.Equal(t, c.want, next.UTC().Format(time.RFC3339), "%+v", c.times)
	}
}

// FuzzRoutine: whatever a routine says, it is refused, or fills in to requests that are valid.
func FuzzRoutine(f *testing.F) {
	f.Add(`{"name": "a", "blanks": {"b": "x"}, "requests": [{"kind": "prove", "source": {"pool": "<b>", "path": "a.raw"}}]}`, "y")
	f.Add(`{"name": "a", "balance": {"kind": "drain", "pools": ["<b>"]}, "blanks": {"b": "x"}, "times": {"cron": "0 2 * * *"}}`, "<b>")
	f.Fuzz(func(t *testing.T, text, value string) {
		var r Routine
		if json.Unmarshal([]byte(text), &r) != nil || r.Validate() != nil {
			return
		}
		said := map[string]string{}
		for name := range r.Blanks {
			said[name] = value
		}
		values, err := r.Values(said)
		if err != nil {
			return
		}
		g, err := r.Group(values, []map[string]string{{"path": value, "disk": value, "machine": value, "name": value}})
		if err != nil {
			return
		}
		for _, q := range g.Requests {
			require.NoError(t, q.Validate())
		}
	})
}
