package attack

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestASecondPerson: what takes data away for good is done only when somebody agrees who may do it, too, and has another name than who asked, by whichever way it is
// asked for.
func TestASecondPerson(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--second-person")
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "ticketing.raw"), mib)
	by := func(name string, role api.Role, on ...string) *client.Service {
		t.Helper()
		made, err := s.AddToken(t.Context(), api.NewToken{Name: name, Role: role, WorksOn: &on})
		require.NoError(t, err)
		c, err := client.Dial(s.Address, made.Secret)
		require.NoError(t, err)
		return c
	}
	rona, tor := by("rona", api.Admin), by("tor", api.Admin)
	status := func(err error, want int, what string) {
		t.Helper()
		var problem *client.Error
		if assert.ErrorAs(t, err, &problem, what) {
			assert.Equal(t, want, problem.Status, "%s: %s", what, problem.Detail)
		}
	}
	held := func(name string) string {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(quay, name), []byte("ask the purser"), 0o600))
		require.NoError(t, rona.RemoveFile(t.Context(), "quay-store", name), "what is held is not gone")
		all, err := s.Held(t.Context())
		require.NoError(t, err)
		for _, h := range all {
			if h.Path == name {
				return h.Id
			}
		}
		t.Fatalf("%s is not held", name)
		return ""
	}
	wanted := func() api.Consent {
		t.Helper()
		all, err := s.Consents(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	id := held("notes.txt")
	for range 2 { // asked for twice, it is one
		status(rona.DropHeld(t.Context(), "quay-store", id), http.StatusConflict, "asked for")
	}
	c := wanted()
	assert.Equal(t, "rona", *c.Who)
	assert.Equal(t, "what is held of quay-store:notes.txt", c.Gone)
	needs, err := s.Needs(t.Context())
	require.NoError(t, err)
	require.Len(t, needs, 1)
	assert.Equal(t, c.Id, *needs[0].Consent)
	now := testkit.Run(t, t.TempDir(), s.State, "now")
	assert.Contains(t, now.Out, "consent "+c.Id)
	assert.Contains(t, now.Out, "would be gone for good")
	bell := make(chan string, 10)
	web := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body) // what is missing is not told
		bell <- string(text)
	}))
	t.Cleanup(web.Close)
	_, err = s.AddChannel(t.Context(), api.NewChannel{Name: "bell", Kind: api.NewChannelKindWeb, Target: api.ChannelTarget{Url: &web.URL}})
	require.NoError(t, err)
	for what, other := range map[string]*client.Service{
		"a viewer": by("watch", api.Viewer), "an operator": by("crew", api.Operator), "who works elsewhere": by("far", api.Admin, "pool:lighthouse-store"),
	} {
		_, err := other.GiveConsent(t.Context(), c.Id)
		status(err, http.StatusForbidden, what)
	}
	_, err = rona.GiveConsent(t.Context(), c.Id)
	status(err, http.StatusBadRequest, "oneself")
	all, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1, "it is still held")
	_, err = tor.GiveConsent(t.Context(), c.Id)
	require.NoError(t, err)
	all, err = s.Held(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = tor.GiveConsent(t.Context(), c.Id)
	status(err, http.StatusNotFound, "a second time")

	id = held("more.txt")
	status(rona.DropHeld(t.Context(), "quay-store", id), http.StatusConflict, "asked for")
	select {
	case told := <-bell:
		assert.Contains(t, told, `"kind":"consent"`)
		assert.Contains(t, told, wanted().Id)
	case <-time.After(time.Minute):
		t.Error("nobody is told")
	}
	require.NoError(t, tor.RefuseConsent(t.Context(), wanted().Id), "it is refused")
	to := place("quay-store:copy.raw")
	r := plan.Request{Kind: plan.Copy, Source: place("quay-store:ticketing.raw"), Destination: &to, ClearHeld: true}
	kept, err := rona.Plan(t.Context(), r)
	require.NoError(t, err)
	_, err = rona.Start(t.Context(), api.NewJob{Plan: kept.Id})
	status(err, http.StatusConflict, "a job")
	require.NoError(t, rona.RefuseConsent(t.Context(), wanted().Id), "taken back")
	g, err := rona.PlanGroup(t.Context(), api.NewGroupPlan{Name: "both", Requests: &[]plan.Request{r}})
	require.NoError(t, err)
	_, err = rona.StartGroup(t.Context(), g.Id)
	status(err, http.StatusConflict, "a group")
	jobs, err := s.Jobs(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, jobs)

	_, err = rona.Start(t.Context(), api.NewJob{Plan: kept.Id})
	status(err, http.StatusConflict, "a job")
	given, err := tor.GiveConsent(t.Context(), wanted().Id)
	require.NoError(t, err)
	testkit.Proven(t, s.Service, given.Job.Id)
	assert.Equal(t, "rona, agreed by tor", *given.Job.Who)
	assert.NoFileExists(t, filepath.Join(quay, ".bagaglio/held", id))
	_, err = tor.Again(t.Context(), given.Job.Id)
	status(err, http.StatusConflict, "again")
	none, err := s.Consents(t.Context())
	require.NoError(t, err)
	assert.Empty(t, none)
}
