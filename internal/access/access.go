// Package access lets people in, and says what they may: with the token of the service, with one that was made for them, or with a session that a link opened once.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"bagaglio/core/storage/local"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

const (
	// TokenFile is the file in the state folder from which the client on this computer takes the token.
	TokenFile = "token"

	tokenSetting    = "token_hash"
	linkLifetime    = 15 * time.Minute
	sessionLifetime = 12 * time.Hour
)

// Role is what somebody may.
type Role string

// The roles: a Viewer looks, an Operator works, an Admin also decides where.
const (
	Viewer   Role = "viewer"
	Operator Role = "operator"
	Admin    Role = "admin"
)

var roles = []Role{Viewer, Operator, Admin}

// May tells whether a role has all that another one has.
func (r Role) May(needed Role) bool {
	has, needs := slices.Index(roles, r), slices.Index(roles, needed)
	return needs >= 0 && has >= needs
}

// Person is who was let in. Name is that of a token, empty for that of the service.
type Person struct {
	Name    string
	Role    Role
	Expires *time.Time // of the token or the session, nil for never
}

// Records keep what lets people in, as SHA-256 only.
type Records interface {
	Setting(ctx context.Context, name string) (string, error)
	SetSetting(ctx context.Context, name, value string) error
	AddToken(ctx context.Context, t store.Token, hash string) error
	RemoveToken(ctx context.Context, name string) error
	UseToken(ctx context.Context, hash string, now time.Time) (store.Token, error)
	AddSession(ctx context.Context, of store.Session, hash string, now time.Time) error
	Session(ctx context.Context, hash string, now time.Time) (store.Session, error)
	RemoveSession(ctx context.Context, hash string) error
}

// Access holds what lets people in. Secrets have 256 random bits.
type Access struct {
	records   Records
	tokenHash string

	mu    sync.Mutex
	links map[string]link // that were not used yet, by their hashes
	stays map[*stay]bool
	gone  map[string]bool // names of tokens that were revoked, and not made anew
}

// stay is somebody who was let in and is still there, until end.
type stay struct {
	name string
	end  context.CancelFunc
}

// link opens a session of somebody until a time.
type link struct {
	until time.Time
	of    Person
}

func secret() (plain, hash string) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	plain = hex.EncodeToString(b)
	return plain, hashOf(plain)
}

func hashOf(plain string) string {
	sum := sha256.Sum256([]byte(plain))
	return hex.EncodeToString(sum[:])
}

// Open makes the token at the first start, and leaves it in a file in the state folder that only the user of the service can read.
func Open(ctx context.Context, state string, records Records) (*Access, error) {
	a := &Access{records: records, links: map[string]link{}, stays: map[*stay]bool{}, gone: map[string]bool{}}
	hash, err := records.Setting(ctx, tokenSetting)
	if err == nil {
		a.tokenHash = hash
		return a, nil
	}
	if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	plain, hash := secret()
	file := filepath.Join(state, TokenFile)
	if err := local.WriteFile(file, []byte(plain+"\n")); err != nil {
		return nil, fmt.Errorf("writing the token: %w", err)
	}
	a.tokenHash = hash
	return a, records.SetSetting(ctx, tokenSetting, hash)
}

// Token returns who is let in by a token. ok is false for one that is unknown, revoked or expired.
func (a *Access) Token(ctx context.Context, token string) (p Person, ok bool, err error) {
	hash := hashOf(token)
	if subtle.ConstantTimeCompare([]byte(hash), []byte(a.tokenHash)) == 1 {
		return Person{Role: Admin}, true, nil
	}
	t, err := a.records.UseToken(ctx, hash, time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return p, false, nil
	}
	return Person{t.Name, Role(t.Role), t.Expires}, err == nil, err
}

// tokenName is what a name of a token looks like.
var tokenName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// NewToken makes a token, and returns its secret, which is kept nowhere. expires is nil for one that does not.
func (a *Access) NewToken(ctx context.Context, name string, role Role, expires *time.Time) (t store.Token, plain string, err error) {
	if !tokenName.MatchString(name) {
		return t, "", fmt.Errorf(
			"%w: the name %q may have small letters, digits and hyphens only, at most 63, and begins with a letter or digit",
			records.ErrInvalid,
			name,
		)
	}
	if !slices.Contains(roles, role) {
		return t, "", fmt.Errorf("%w: a role is one of %v, and not %q", records.ErrInvalid, roles, role)
	}
	plain, hash := secret()
	t = store.Token{Name: name, Role: string(role), Created: time.Now(), Expires: expires}
	if err := a.records.AddToken(ctx, t, hash); err != nil {
		return t, "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.gone, name)
	return t, plain, nil
}

// Revoke lets nobody in by a token any more, nor by what came of it.
func (a *Access) Revoke(ctx context.Context, name string) error {
	a.mu.Lock()
	maps.DeleteFunc(a.links, func(_ string, l link) bool { return l.of.Name == name })
	a.mu.Unlock()
	if err := a.records.RemoveToken(ctx, name); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.gone[name] = true
	for s := range a.stays {
		if s.name == name {
			s.end()
		}
	}
	return nil
}

// While returns a context that ends when somebody is not let in any more: when their token is revoked, or that or their session expires. The caller ends it.
func (a *Access) While(ctx context.Context, p Person) (context.Context, context.CancelFunc) {
	var end context.CancelFunc
	if p.Expires != nil {
		ctx, end = context.WithDeadline(ctx, *p.Expires)
	} else {
		ctx, end = context.WithCancel(ctx)
	}
	s := &stay{p.Name, end}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.stays[s] = true
	if a.gone[p.Name] { // while they came in
		end()
	}
	return ctx, func() {
		end()
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.stays, s)
	}
}

// NewLink returns a key that opens one session of somebody, and until when it holds.
func (a *Access) NewLink(of Person) (key string, until time.Time) {
	key, hash := secret()
	until = time.Now().Add(linkLifetime)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.links[hash] = link{until, of}
	return key, until
}

// Enter uses up a link's key and begins a session. ok is false for a key that is unknown, used or too old.
func (a *Access) Enter(ctx context.Context, key string) (session string, expires time.Time, ok bool, err error) {
	hash := hashOf(key)
	a.mu.Lock()
	l, known := a.links[hash]
	delete(a.links, hash)
	a.mu.Unlock()
	now := time.Now()
	if !known || now.After(l.until) || l.of.Expires != nil && now.After(*l.of.Expires) {
		return "", time.Time{}, false, nil
	}
	session, hash = secret()
	expires = now.Add(sessionLifetime)
	if e := l.of.Expires; e != nil && e.Before(expires) {
		expires = *e
	}
	err = a.records.AddSession(ctx, store.Session{Who: l.of.Name, Role: string(l.of.Role), Expires: expires}, hash, now)
	return session, expires, err == nil, err
}

// Session returns whose a session is. ok is false for one that has ended.
func (a *Access) Session(ctx context.Context, session string) (p Person, ok bool, err error) {
	of, err := a.records.Session(ctx, hashOf(session), time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return p, false, nil
	}
	return Person{of.Who, Role(of.Role), &of.Expires}, err == nil, err
}

// EndSession ends a session.
func (a *Access) EndSession(ctx context.Context, session string) error {
	return a.records.RemoveSession(ctx, hashOf(session))
}
