package attack

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// visitor asks with a session, or without.
type visitor struct {
	t       *testing.T
	s       *testkit.Service
	session *http.Cookie
}

func (v *visitor) ask(method, path, body string) int {
	v.t.Helper()
	q, err := http.NewRequestWithContext(v.t.Context(), method, v.s.Address+path, strings.NewReader(body))
	require.NoError(v.t, err)
	q.Header.Set("Content-Type", "application/json")
	if v.session != nil {
		q.AddCookie(v.session)
	}
	answer, err := http.DefaultClient.Do(q)
	require.NoError(v.t, err)
	defer answer.Body.Close()
	for _, c := range answer.Cookies() {
		v.session = c
	}
	return answer.StatusCode
}

func (v *visitor) signIn(name, password string) int {
	body, err := json.Marshal(api.SignIn{Name: name, Password: password})
	require.NoError(v.t, err)
	return v.ask(http.MethodPost, "/v1/session", string(body))
}

// TestSigningIn: a wrong password, an unknown name and a token's name open nothing and are told apart by nobody; what somebody may follows their role at once.
func TestSigningIn(t *testing.T) {
	t.Parallel()
	s := start(t)
	_, err := s.AddToken(t.Context(), api.NewToken{Name: "night-watch", Role: api.Admin})
	require.NoError(t, err)
	for what, n := range map[string]api.NewPerson{
		"12 to 256 characters": {Name: "crew", Role: api.Viewer, Password: "short"},
		"a role is one of":     {Name: "crew", Role: "captain", Password: "nine gulls on a mast"},
		"small letters":        {Name: "../crew", Role: api.Viewer, Password: "nine gulls on a mast"},
		"taken":                {Name: "night-watch", Role: api.Viewer, Password: "nine gulls on a mast"},
	} {
		_, err := s.AddPerson(t.Context(), n)
		require.ErrorContains(t, err, what)
	}
	_, err = s.AddPerson(t.Context(), api.NewPerson{Name: "crew", Role: api.Viewer, Password: "nine gulls on a mast"})
	require.NoError(t, err)
	_, err = s.AddToken(t.Context(), api.NewToken{Name: "crew", Role: api.Admin})
	require.ErrorContains(t, err, "taken")
	v := &visitor{t: t, s: s}
	for name, password := range map[string]string{"crew": "nine gulls on a must", "captain": "nine gulls on a mast", "night-watch": "", "": ""} {
		assert.Equal(t, http.StatusUnauthorized, v.signIn(name, password), name)
	}
	require.Nil(t, v.session)
	require.Equal(t, http.StatusOK, v.signIn("crew", "nine gulls on a mast"))
	assert.Equal(t, http.StatusOK, v.ask("GET", "/v1/jobs", ""))
	assert.Equal(t, http.StatusForbidden, v.ask("POST", "/v1/jobs", "{}"))
	assert.Equal(t, http.StatusForbidden, v.ask("GET", "/v1/people", ""))
	operator := api.Operator
	_, err = s.ChangePerson(t.Context(), "crew", api.PersonChange{Role: &operator})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnauthorized, v.ask("GET", "/v1/jobs", ""), "the session had another role")
	require.Equal(t, http.StatusOK, v.signIn("crew", "nine gulls on a mast"))
	assert.Equal(t, http.StatusBadRequest, v.ask("PUT", "/v1/me/password", `{"old":"wrong","new":"ten gulls on a mast"}`))
	second := &visitor{t: t, s: s}
	require.Equal(t, http.StatusOK, second.signIn("crew", "nine gulls on a mast"))
	assert.Equal(t, http.StatusNoContent, v.ask("PUT", "/v1/me/password", `{"old":"nine gulls on a mast","new":"ten gulls on a mast"}`))
	assert.Equal(t, http.StatusUnauthorized, second.ask("GET", "/v1/jobs", ""), "the other one")
	assert.Equal(t, http.StatusOK, v.ask("GET", "/v1/jobs", ""), "one's own stays")
	require.NoError(t, s.RemovePerson(t.Context(), "crew"))
	assert.Equal(t, http.StatusUnauthorized, v.ask("GET", "/v1/jobs", ""))
	v.session = nil
	assert.Equal(t, http.StatusUnauthorized, v.signIn("crew", "ten gulls on a mast"))
	events, err := s.Events(t.Context(), 0, "", 100)
	require.NoError(t, err)
	told, err := json.Marshal(events)
	require.NoError(t, err)
	assert.Contains(t, string(told), "session crew")
	assert.NotContains(t, string(told), "gulls")
	s.Stop()
	assert.NotContains(t, s.Notes(), "gulls")
}

// TestGuessingPasswords is slowed down, and costs those who are let in nothing.
func TestGuessingPasswords(t *testing.T) {
	t.Parallel()
	s := start(t)
	v := &visitor{t: t, s: s}
	statuses := map[int]int{}
	begun := time.Now()
	for range 40 {
		statuses[v.signIn("crew", "a guess of many")]++
	}
	assert.Positive(t, statuses[http.StatusTooManyRequests])
	const atOnce, every = 20, 3 * time.Second
	assert.LessOrEqual(t, statuses[http.StatusUnauthorized], atOnce+1+int(time.Since(begun)/every))
	_, err := s.Hosts(t.Context())
	require.NoError(t, err)
}

// TestSessionsAreEnded by whose they are, and by an admin; no other one is seen, and streams end with them.
func TestSessionsAreEnded(t *testing.T) {
	t.Parallel()
	s := start(t)
	for _, name := range []string{"crew", "watch"} {
		_, err := s.AddPerson(t.Context(), api.NewPerson{Name: name, Role: api.Operator, Password: "nine gulls on a mast"})
		require.NoError(t, err)
	}
	crew, watch := &visitor{t: t, s: s}, &visitor{t: t, s: s}
	require.Equal(t, http.StatusOK, crew.signIn("crew", "nine gulls on a mast"))
	require.Equal(t, http.StatusOK, watch.signIn("watch", "nine gulls on a mast"))
	all, err := s.Sessions(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	ids := map[string]string{}
	for _, x := range all {
		ids[*x.Who] = x.Id
	}
	made, err := s.AddToken(t.Context(), api.NewToken{Name: "deck", Role: api.Operator})
	require.NoError(t, err)
	deck, err := client.Dial(s.Address, made.Secret)
	require.NoError(t, err)
	mine, err := deck.Sessions(t.Context())
	require.NoError(t, err)
	assert.Empty(t, mine)
	require.ErrorContains(t, deck.EndSession(t.Context(), ids["crew"]), "not found")
	assert.Equal(t, http.StatusNotFound, crew.ask("DELETE", "/v1/sessions/"+ids["watch"], ""))

	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+"/v1/events", nil)
	require.NoError(t, err)
	q.AddCookie(watch.session)
	stream, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer stream.Body.Close()
	require.NoError(t, s.EndSession(t.Context(), ids["watch"]))
	for b := make([]byte, 4096); err == nil; {
		_, err = stream.Body.Read(b)
	}
	require.NoError(t, ctx.Err(), "it ends before the time is over")
	assert.Equal(t, http.StatusUnauthorized, watch.ask("GET", "/v1/jobs", ""))
	assert.Equal(t, http.StatusOK, crew.ask("GET", "/v1/jobs", ""))
	assert.Equal(t, http.StatusNoContent, crew.ask("DELETE", "/v1/sessions/"+ids["crew"], ""))
	assert.Equal(t, http.StatusUnauthorized, crew.ask("GET", "/v1/jobs", ""))
}
