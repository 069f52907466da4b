package attack

import (
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/openid"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answered is what a browser got, and where it ended.
type answered struct {
	status   int
	at       *url.URL
	location string
}

// TestSignedInElsewhere: who is known to a provider has a session as what their groups may; who is in none, who did not begin here, and whoever a provider lies
// about, has none.
func TestSignedInElsewhere(t *testing.T) {
	t.Parallel()
	provider := openid.Start(t)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte(openid.Secret+"\n"), 0o600))
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--openid", provider.Issuer, "--openid-secret", secret,
		"--openid-role", "harbour-crew=operator,harbour-masters=admin")
	browser := func() *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		return &http.Client{Jar: jar}
	}
	asks := func(b *http.Client, path string) answered {
		t.Helper()
		answer, err := b.Get(s.Address + path)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answered{answer.StatusCode, answer.Request.URL, answer.Header.Get("Location")}
	}
	refused := func(b *http.Client, why string) {
		t.Helper()
		answer := asks(b, "/openid")
		assert.Equal(t, "openid="+why, answer.at.RawQuery)
		assert.Equal(t, http.StatusUnauthorized, asks(b, "/v1/jobs").status)
	}
	crew := map[string]any{"preferred_username": "Rona.Tide", "groups": []string{"harbour-crew", "choir"}}
	provider.SignsIn(crew)
	rona := browser()
	assert.Equal(t, "/", asks(rona, "/openid").at.RequestURI())
	assert.Equal(t, http.StatusOK, asks(rona, "/v1/jobs").status)
	assert.Equal(t, http.StatusForbidden, asks(rona, "/v1/tokens").status, "an operator")
	sessions, err := s.Sessions(t.Context())
	require.NoError(t, err)
	require.Len(t, sessions, 1)
	assert.Equal(t, "rona-tide", *sessions[0].Who)
	require.NoError(t, s.EndSession(t.Context(), sessions[0].Id))
	assert.Equal(t, http.StatusUnauthorized, asks(rona, "/v1/jobs").status)

	provider.SignsIn(map[string]any{"email": "master@quay.example", "groups": []string{"harbour-crew", "harbour-masters"}})
	master := browser()
	asks(master, "/openid")
	assert.Equal(t, http.StatusOK, asks(master, "/v1/tokens").status, "what may most counts")

	provider.SignsIn(map[string]any{"preferred_username": "guest", "groups": []string{"choir"}})
	refused(browser(), "role")
	_, err = s.AddPerson(t.Context(), api.NewPerson{Name: "rona-tide", Role: api.Viewer, Password: "the tide is out"})
	require.NoError(t, err)
	provider.SignsIn(crew)
	refused(browser(), "name")
	require.NoError(t, s.RemovePerson(t.Context(), "rona-tide"))
	for name, lie := range map[string]func(map[string]any){
		"said to somebody else":   func(c map[string]any) { c["nonce"] = "another" },
		"for another service":     func(c map[string]any) { c["aud"] = "another" },
		"of another provider":     func(c map[string]any) { c["iss"] = "https://another.example" },
		"too long ago":            func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"without saying for whom": func(c map[string]any) { delete(c, "aud") },
	} {
		t.Log(name)
		provider.Lies(lie)
		refused(browser(), "provider")
	}
	provider.Lies(func(map[string]any) {})

	// One who began elsewhere is not signed in by a link that somebody else made for them.
	stopped := browser()
	stopped.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/openid/back" {
			return http.ErrUseLastResponse
		}
		return nil
	}
	there := asks(stopped, "/openid")
	link, err := url.Parse(there.location)
	require.NoError(t, err)
	victim := browser()
	assert.Equal(t, "openid=again", asks(victim, link.RequestURI()).at.RawQuery)
	assert.Equal(t, http.StatusUnauthorized, asks(victim, "/v1/jobs").status)
	stopped.CheckRedirect = nil
	assert.Equal(t, "/", asks(stopped, link.RequestURI()).at.RequestURI())
	assert.Equal(t, http.StatusOK, asks(stopped, "/v1/jobs").status)
	assert.Equal(t, "openid=again", asks(stopped, link.RequestURI()).at.RawQuery, "a second time")
}

// TestNoProvider: without one there is nothing at its addresses, and a bad one is refused at the start.
func TestNoProvider(t *testing.T) {
	t.Parallel()
	s := start(t)
	answer, err := http.Get(s.Address + "/openid")
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	assert.Empty(t, answer.Cookies())
	for _, flags := range [][]string{
		{"--openid", "http://signs.example", "--openid-role", "crew=operator"},
		{"--openid", "https://signs.example"},
		{"--openid", "https://signs.example", "--openid-role", "crew=captain"},
		{"--openid", "https://signs.example", "--openid-role", "crew=operator", "--openid-secret", "/nowhere"},
	} {
		out := testkit.Run(t, t.TempDir(), filepath.Join(t.TempDir(), "state"), append([]string{"serve", "--listen", "127.0.0.1:0"}, flags...)...)
		assert.NotZero(t, out.Code, "%v", flags)
		assert.Contains(t, out.Notes, "signs.example", "%v", flags)
	}
}
