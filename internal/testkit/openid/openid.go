// Package openid is a stand-in for a provider that signs people in (OpenID Connect Core 1.0), for tests.
package openid

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"
)

// Client and Secret are those of the service there.
const Client, Secret = "bagaglio", "tides and towers"

// Provider signs in whoever comes, as Who.
type Provider struct {
	Issuer string

	mu     sync.Mutex
	who    map[string]any
	lies   func(claims map[string]any)
	codes  map[string]url.Values // what was asked for, by the code that was given for it
	key    *rsa.PrivateKey
	signer jose.Signer
}

// Start starts one, until the test ends.
func Start(t testing.TB) *Provider {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &Provider{key: key, codes: map[string]url.Values{}, lies: func(map[string]any) {}}
	p.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}}, nil)
	require.NoError(t, err)
	routes := http.NewServeMux()
	server := httptest.NewServer(routes)
	t.Cleanup(server.Close)
	p.Issuer = server.URL
	routes.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		say(w, map[string]any{
			"issuer":                                p.Issuer,
			"authorization_endpoint":                p.Issuer + "/authorize",
			"token_endpoint":                        p.Issuer + "/token",
			"jwks_uri":                              p.Issuer + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"},
		})
	})
	routes.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		say(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: "1", Algorithm: "RS256", Use: "sig"}}})
	})
	routes.HandleFunc("GET /authorize", p.authorize)
	routes.HandleFunc("POST /token", p.token)
	return p
}

// SignsIn has the next one be who these claims are about.
func (p *Provider) SignsIn(claims map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.who = claims
}

// Lies has claims be changed before they are signed.
func (p *Provider) Lies(change func(claims map[string]any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lies = change
}

func say(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // a line that was cut
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	q := r.URL.Query()
	code := rand.Text()
	p.codes[code] = q
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(), http.StatusFound)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	asked, ok := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	client, secret, basic := r.BasicAuth()
	if !basic {
		client, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	secret, _ = url.QueryUnescape(secret) // RFC 6749, section 2.3.1
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	proven := base64.RawURLEncoding.EncodeToString(sum[:]) == asked.Get("code_challenge")
	if !ok || client != Client || secret != Secret || !proven || r.FormValue("redirect_uri") != asked.Get("redirect_uri") {
		w.WriteHeader(http.StatusBadRequest)
		say(w, map[string]string{"error": "invalid_grant"})
		return
	}
	claims := map[string]any{
		"iss":   p.Issuer,
		"aud":   Client,
		"sub":   "1",
		"nonce": asked.Get("nonce"),
		"iat":   time.Now().Unix(),
		"exp":   time.Now().Add(time.Minute).Unix(),
	}
	maps.Copy(claims, p.who)
	p.lies(claims)
	id, err := jwt.Signed(p.signer).Claims(claims).Serialize() //nolint:misspell // the library spells it so
	if err != nil {
		panic(err) // the key is made here
	}
	say(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "id_token": id})
}
