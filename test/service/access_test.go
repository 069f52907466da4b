package service

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// call is a request by hand.
type call struct {
	method, path, body string
	header             map[string]string
	host               string
}

func (c call) do(t *testing.T, s *testkit.Service) *http.Response {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), c.method, s.Address+c.path, strings.NewReader(c.body))
	require.NoError(t, err)
	for k, v := range c.header {
		r.Header.Set(k, v)
	}
	if c.host != "" {
		r.Host = c.host
	}
	plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := plain.Do(r)
	require.NoError(t, err)
	t.Cleanup(func() { _ = resp.Body.Close() })
	return resp
}

// session opens one with the service's link and returns the cookie's value.
func session(t *testing.T, s *testkit.Service) string {
	t.Helper()
	resp := call{method: "GET", path: strings.TrimPrefix(s.Link, s.Address)}.do(t, s)
	require.Equal(t, http.StatusSeeOther, resp.StatusCode)
	require.Len(t, resp.Cookies(), 1)
	c := resp.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	return c.Name + "=" + c.Value
}

func TestWhoIsLetIn(t *testing.T) {
	t.Parallel()
	s := start(t)
	cookie := session(t, s)
	bearer := map[string]string{"Authorization": "Bearer " + s.Token}
	for name, c := range map[string]struct {
		call
		status int
	}{
		"health is free":         {call{method: "GET", path: "/v1/health"}, 200},
		"nothing":                {call{method: "GET", path: "/v1/pools"}, 401},
		"metrics with nothing":   {call{method: "GET", path: "/metrics"}, 401},
		"events with nothing":    {call{method: "GET", path: "/v1/events"}, 401},
		"a wrong token":          {call{method: "GET", path: "/v1/pools", header: map[string]string{"Authorization": "Bearer 00"}}, 401},
		"a wrong session":        {call{method: "GET", path: "/v1/pools", header: map[string]string{"Cookie": "bagaglio_session=00"}}, 401},
		"the token":              {call{method: "GET", path: "/v1/pools", header: bearer}, 200},
		"the session":            {call{method: "GET", path: "/v1/pools", header: map[string]string{"Cookie": cookie}}, 200},
		"a session from a trap":  {call{method: "POST", path: "/v1/console-links", header: map[string]string{"Cookie": cookie, "Sec-Fetch-Site": "cross-site"}}, 403},
		"a page of another name": {call{method: "GET", path: "/v1/pools", header: bearer, host: "isola.example"}, 403},
		"localhost":              {call{method: "GET", path: "/v1/health", host: "localhost:2247"}, 200},
		"an unknown address":     {call{method: "GET", path: "/v1/cellar", header: bearer}, 404},
		"a wrong method":         {call{method: "PUT", path: "/v1/pools", header: bearer}, 405},
		"a mistyped option":      {call{method: "POST", path: "/v1/plans", header: bearer, body: `{"kind":"prove","source":{"path":"x"},"agianst":"y"}`}, 400},
		"no JSON":                {call{method: "POST", path: "/v1/plans", header: bearer, body: `<plan/>`}, 400},
		"an endless body":        {call{method: "POST", path: "/v1/plans", header: bearer, body: `{"kind":"` + strings.Repeat("x", 2<<20) + `"}`}, 413},
	} {
		resp := c.do(t, s)
		assert.Equal(t, c.status, resp.StatusCode, name)
		if c.status >= 400 && c.status != 403 {
			assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), name)
		}
	}
	// A link opens the console once.
	resp := call{method: "GET", path: strings.TrimPrefix(s.Link, s.Address)}.do(t, s)
	assert.Equal(t, "/?link=used", resp.Header.Get("Location"))
	assert.Empty(t, resp.Cookies())
	// Who leaves has left.
	assert.Equal(t, 204, call{method: "DELETE", path: "/v1/session", header: map[string]string{"Cookie": cookie}}.do(t, s).StatusCode)
	assert.Equal(t, 401, call{method: "GET", path: "/v1/pools", header: map[string]string{"Cookie": cookie}}.do(t, s).StatusCode)
}

// TestSecretsAreKeptAsHashes, and their files are for the user of the service alone.
func TestSecretsAreKeptAsHashes(t *testing.T) {
	t.Parallel()
	s := start(t)
	cookie := session(t, s)
	s.Stop()
	for _, name := range []string{"token", "records.sqlite", "address", "lock"} {
		info, err := os.Stat(filepath.Join(s.State, name))
		if name == "address" {
			require.ErrorIs(t, err, os.ErrNotExist, "a service that is stopped answers nowhere")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	files, err := filepath.Glob(filepath.Join(s.State, "records.sqlite*"))
	require.NoError(t, err)
	for _, file := range files {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NotContains(t, string(b), s.Token)
		assert.NotContains(t, string(b), strings.TrimPrefix(cookie, "bagaglio_session="))
	}
	// The token of the first start stays valid.
	again := testkit.Start(t, s.State)
	assert.Equal(t, s.Token, again.Token)
	_, err = again.Pools(t.Context())
	require.NoError(t, err)
}

// TestConsoleComesFromHereAlone: its files are served, with a policy that lets nothing else in.
func TestConsoleComesFromHereAlone(t *testing.T) {
	t.Parallel()
	s := start(t)
	for _, path := range []string{"/", "/jobs/7", "/compose"} {
		resp := call{method: "GET", path: path}.do(t, s)
		require.Equal(t, 200, resp.StatusCode, path)
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		assert.Contains(t, string(b), "<title>Bagaglio</title>")
		assert.NotRegexp(t, `(src|href)="(https?:)?//`, string(b))
		policy := resp.Header.Get("Content-Security-Policy")
		assert.Contains(t, policy, "default-src 'none'")
		assert.NotContains(t, policy, "unsafe")
		assert.NotContains(t, policy, "http")
	}
}
