package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// OpenID says whose people are let in (OpenID Connect Core 1.0), and as what.
type OpenID struct {
	Issuer string // its address, https but on this computer
	Client string // what the service is called there
	Secret string // empty for a public client
	// Claim is where the groups of somebody are, and Roles are what those stand for: the one that may most counts. Who is in none of them is not let in.
	Claim string
	Roles map[string]Role
}

// Errors of who comes by a provider.
var (
	ErrNotBegun  = errors.New("this was not begun here, or too long ago: sign in again")
	ErrNoRole    = errors.New("none of their groups may do anything here")
	ErrNameTaken = errors.New("somebody else is called so here")
	ErrProvider  = errors.New("who signs people in did not say who it is")
)

const (
	signInWithin = 10 * time.Minute // for a person at the provider
	askWithin    = 15 * time.Second // for the provider
	mostBegun    = 1000
)

// Provider signs people in whom an OpenID provider knows: by a code (OpenID Connect Core 1.0, section 3.1), bound to the browser that began, with PKCE (RFC 7636).
type Provider struct {
	access *Access
	is     OpenID
	client *http.Client

	mu    sync.Mutex
	found *oidc.Provider // nil until it was asked
	begun map[string]begun
}

// begun is a sign-in that has not come back.
type begun struct {
	nonce, verifier string
	until           time.Time
}

// NewProvider returns one, which is asked when somebody comes first.
func (a *Access) NewProvider(is OpenID) (*Provider, error) {
	u, err := url.Parse(is.Issuer)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme != "https" && (u.Scheme != "http" || ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf(
			"%w: the address of a provider begins with https://, but for one on this computer: %s",
			records.ErrInvalid,
			is.Issuer,
		)
	}
	if is.Client == "" || is.Claim == "" || len(is.Roles) == 0 {
		return nil, fmt.Errorf("%w: say what the service is called at %s, and which groups may do what here", records.ErrInvalid, is.Issuer)
	}
	for group, role := range is.Roles {
		if !slices.Contains(roles, role) {
			return nil, fmt.Errorf("%w: the group %s of %s is to be %q, and a role is one of %v", records.ErrInvalid, group, is.Issuer, role, roles)
		}
	}
	return &Provider{access: a, is: is, client: &http.Client{Timeout: askWithin}, begun: map[string]begun{}}, nil
}

// at returns how to ask the provider, which sends people back to an address.
func (p *Provider) at(ctx context.Context, back string) (context.Context, *oauth2.Config, *oidc.Provider, error) {
	ctx = oidc.ClientContext(ctx, p.client)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.client), p.is.Issuer)
		if err != nil {
			return ctx, nil, nil, fmt.Errorf("%w: %w", ErrProvider, err)
		}
		p.found = found
	}
	return ctx, &oauth2.Config{
		ClientID: p.is.Client, ClientSecret: p.is.Secret, Endpoint: p.found.Endpoint(), RedirectURL: back,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email", p.is.Claim},
	}, p.found, nil
}

// Begin returns the address at the provider to which somebody is sent, who is to come back to an address here, and the state that their browser keeps meanwhile.
func (p *Provider) Begin(ctx context.Context, back string) (to, state string, err error) {
	_, config, _, err := p.at(ctx, back)
	if err != nil {
		return "", "", err
	}
	b := begun{nonce: rand.Text(), verifier: oauth2.GenerateVerifier(), until: time.Now().Add(signInWithin)}
	state = rand.Text()
	p.mu.Lock()
	defer p.mu.Unlock()
	for s, other := range p.begun {
		if time.Now().After(other.until) || len(p.begun) >= mostBegun {
			delete(p.begun, s)
		}
	}
	p.begun[state] = b
	return config.AuthCodeURL(state, oidc.Nonce(b.nonce), oauth2.S256ChallengeOption(b.verifier)), state, nil
}

// Back begins a session of who comes back with a code, from an address. It fails with one of the errors of providers.
func (p *Provider) Back(ctx context.Context, state, code, back, origin string) (who Person, session string, err error) {
	p.mu.Lock()
	b, ok := p.begun[state]
	delete(p.begun, state)
	p.mu.Unlock()
	if !ok || time.Now().After(b.until) {
		return who, "", ErrNotBegun
	}
	ctx, config, found, err := p.at(ctx, back)
	if err != nil {
		return who, "", err
	}
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(b.verifier))
	if err != nil {
		return who, "", fmt.Errorf("%w: %w", ErrProvider, err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.is.Client}).Verify(ctx, raw)
	if err != nil {
		return who, "", fmt.Errorf("%w: %w", ErrProvider, err)
	}
	if id.Nonce != b.nonce {
		return who, "", fmt.Errorf("%w: what it says was said to somebody else", ErrProvider)
	}
	if who, err = p.person(id); err != nil {
		return who, "", err
	}
	if err := p.access.isFree(ctx, who.Name); err != nil {
		return who, "", err
	}
	session, of, err := p.access.begin(ctx, who, origin)
	who.Expires, who.Session = &of.Expires, of.ID
	return who, session, err
}

// person is who an ID token is about.
func (p *Provider) person(id *oidc.IDToken) (who Person, err error) {
	var said struct {
		Name  string `json:"preferred_username"`
		Email string `json:"email"`
	}
	all := map[string]any{}
	if err := errors.Join(id.Claims(&said), id.Claims(&all)); err != nil {
		return who, fmt.Errorf("%w: %w", ErrProvider, err)
	}
	for _, name := range []string{said.Name, said.Email, id.Subject} {
		if who.Name = nameOf(name); who.Name != "" {
			break
		}
	}
	groups, _ := all[p.is.Claim].([]any)
	if one, ok := all[p.is.Claim].(string); ok {
		groups = []any{one}
	}
	for _, g := range groups {
		if role, ok := p.is.Roles[fmt.Sprint(g)]; ok && (who.Role == "" || role.May(who.Role)) {
			who.Role = role
		}
	}
	if who.Role == "" || who.Name == "" {
		return who, fmt.Errorf("%w: %s", ErrNoRole, who.Name)
	}
	return who, nil
}

// notInNames are runs of letters that names do not have here.
var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// nameOf is what somebody is called here whom a provider calls otherwise: crew@quay.example is crew-at-quay-example.
func nameOf(theirs string) string {
	name := strings.ReplaceAll(strings.ToLower(theirs), "@", "-at-")
	name = strings.Trim(notInNames.ReplaceAllString(name, "-"), "-")
	return strings.Trim(name[:min(len(name), 63)], "-")
}

// isFree fails for a name that a token or somebody with a password has: their sessions would be taken for each other's.
func (a *Access) isFree(ctx context.Context, name string) error {
	_, err := a.records.Person(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		taken, err := a.records.HasToken(ctx, name)
		if err == nil && taken {
			err = fmt.Errorf("%w: a token: %s", ErrNameTaken, name)
		}
		return err
	}
	if err == nil {
		err = fmt.Errorf("%w: somebody with a password: %s", ErrNameTaken, name)
	}
	return err
}
