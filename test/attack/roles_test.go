package attack

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// route is a call of the API, with the role that it takes.
type route struct{ method, path, role string }

// routes are those of the description.
func routes(t *testing.T) (all []route) {
	t.Helper()
	var described struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(api.Spec, &described))
	for path, calls := range described.Paths {
		for method, call := range calls {
			if method == "parameters" {
				continue
			}
			var of struct {
				Role string `yaml:"x-role"`
			}
			require.NoError(t, call.Decode(&of))
			all = append(all, route{strings.ToUpper(method), path, of.Role})
		}
	}
	require.Greater(t, len(all), 60)
	return all
}

// TestEveryRouteAndEveryRole: each call of the API is open to those roles that it says, and to no other, nor to anybody without a token, or with one that is revoked or expired.
func TestEveryRouteAndEveryRole(t *testing.T) {
	t.Parallel()
	s := start(t)
	roles := []string{"", "viewer", "operator", "admin"}
	tokens := map[string]string{}
	for _, role := range roles[1:] {
		made, err := s.AddToken(t.Context(), api.NewToken{Name: role, Role: api.Role(role)})
		require.NoError(t, err)
		tokens[role] = made.Secret
	}
	gone, err := s.AddToken(t.Context(), api.NewToken{Name: "gone", Role: api.Admin})
	require.NoError(t, err)
	require.NoError(t, s.RevokeToken(t.Context(), "gone"))
	tokens["gone"] = gone.Secret
	ask := func(r route, token string) int {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		path := regexp.MustCompile(`\{\w+\}`).ReplaceAllString(r.path, "none")
		q, err := http.NewRequestWithContext(ctx, r.method, s.Address+path, strings.NewReader("{}"))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		if token != "" {
			q.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := http.DefaultClient.Do(q)
		require.NoError(t, err, "%s %s", r.method, r.path)
		defer answer.Body.Close() // what is followed ends with it
		return answer.StatusCode
	}
	for _, r := range routes(t) {
		if r.role == "anybody" {
			assert.Contains(t, []route{{"GET", "/v1/health", r.role}, {"POST", "/v1/session", r.role}}, r, "nothing else is free")
			continue
		}
		needs := slices.Index(roles, r.role)
		require.Positive(t, needs, "%s %s says no role", r.method, r.path)
		if r.method != http.MethodGet { // who looks changes nothing
			assert.True(
				t,
				needs > 1 ||
					slices.Contains([]string{"/v1/plans", "/v1/session", "/v1/sessions/{session}", "/v1/me/password", "/v1/console-links"}, r.path),
				"%s %s",
				r.method,
				r.path,
			)
		}
		for has, role := range roles {
			status := ask(r, tokens[role])
			what := []any{"%s %s as %q: %d", r.method, r.path, role, status}
			switch {
			case role == "":
				assert.Equal(t, http.StatusUnauthorized, status, what...)
			case has < needs:
				assert.Equal(t, http.StatusForbidden, status, what...)
			default:
				assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, status, what...)
			}
		}
	}
	assert.Equal(t, http.StatusUnauthorized, ask(route{"GET", "/v1/jobs", ""}, tokens["gone"]))
}

// TestASessionIsWorthItsToken: a link of the console that a viewer made opens a session that may no more, and ends when the token is revoked, used or not.
func TestASessionIsWorthItsToken(t *testing.T) {
	t.Parallel()
	s := start(t)
	made, err := s.AddToken(t.Context(), api.NewToken{Name: "night-watch", Role: api.Viewer})
	require.NoError(t, err)
	watch, err := client.Dial(s.Address, made.Secret)
	require.NoError(t, err)
	me, err := watch.Me(t.Context())
	require.NoError(t, err)
	assert.Equal(t, api.Viewer, me.Role)
	assert.Equal(t, "night-watch", *me.Name)
	session := func() *http.Cookie {
		t.Helper()
		link, err := watch.ConsoleLink(t.Context())
		require.NoError(t, err)
		return enter(t, link.Url)
	}
	cookie := session()
	require.NotNil(t, cookie)
	ask := func(method, path string) (int, string) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), method, s.Address+path, strings.NewReader("{}"))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		q.AddCookie(cookie)
		answer, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	status, _ := ask("GET", "/v1/jobs")
	assert.Equal(t, http.StatusOK, status)
	status, text := ask("POST", "/v1/jobs")
	assert.Equal(t, http.StatusForbidden, status)
	var told struct{ Detail string }
	require.NoError(t, json.Unmarshal([]byte(text), &told))
	assert.Contains(t, told.Detail, "takes the role operator, and you are viewer")
	later, err := watch.ConsoleLink(t.Context())
	require.NoError(t, err)
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/v1/events", nil)
	require.NoError(t, err)
	q.AddCookie(cookie)
	news, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer news.Body.Close()
	_, err = news.Body.Read(make([]byte, 1))
	require.NoError(t, err)
	require.NoError(t, s.RevokeToken(t.Context(), "night-watch"))
	_, err = io.Copy(io.Discard, news.Body)
	require.NoError(t, err, "it is told no more")
	status, _ = ask("GET", "/v1/jobs")
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Nil(t, enter(t, later.Url))
	require.Error(t, s.RevokeToken(t.Context(), "night-watch"), "it is gone")
}

// enter follows a link of the console, and returns the session that it opened, nil for none.
func enter(t *testing.T, link string) *http.Cookie {
	t.Helper()
	browser := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, link, nil)
	require.NoError(t, err)
	answer, err := browser.Do(q)
	require.NoError(t, err)
	defer answer.Body.Close()
	for _, c := range answer.Cookies() {
		if c.Value != "" {
			return c
		}
	}
	return nil
}
