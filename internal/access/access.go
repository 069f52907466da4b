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
	"bagaglio/internal/authority"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

const (
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

// Person is who was let in. Name is that of a token or of who signed in, empty for the token of the service.
type Person struct {
	Name    string
	Role    Role
	Expires *time.Time // of the token or the session, nil for never
	Session string     // its ID, empty for who came by a token
	Works   Works

	turn int // of Access, before it was looked who they are
}

// Records keep what lets people in: secrets as SHA-256, passwords as Argon2id.
type Records interface {
	Setting(ctx context.Context, name string) (string, error)
	SetSetting(ctx context.Context, name, value string) error
	AddToken(ctx context.Context, t store.Token, hash string) error
	RemoveToken(ctx context.Context, name string) error
	UseToken(ctx context.Context, hash string, now time.Time) (store.Token, error)
	HasToken(ctx context.Context, name string) (bool, error)
	AddPerson(ctx context.Context, k store.Known) error
	Person(ctx context.Context, name string) (store.Known, error)
	ChangePerson(ctx context.Context, name, role, password string, worksOn *string) error
	UsePerson(ctx context.Context, k store.Known) error
	RemovePerson(ctx context.Context, name string) error
	AddSession(ctx context.Context, of store.Session, hash string) error
	Session(ctx context.Context, hash string, now time.Time) (store.Session, error)
	Sessions(ctx context.Context, now time.Time) ([]store.Session, error)
	RemoveSession(ctx context.Context, id string) error
	RemoveSessionsOf(ctx context.Context, who, but string) error
}

// Access holds what lets people in. Secrets have 256 random bits.
type Access struct {
	records   Records
	tokenHash string

	mu    sync.Mutex
	links map[string]link // that were not used yet, by their hashes
	stays map[*stay]bool
	turn  int            // how often something was ended that lets people in
	ended map[string]int // the turn in which this was last, by names and IDs of sessions

	checking chan struct{} // has room for as many passwords as are checked at once
}

// stay is somebody who was let in and is still there, until end.
type stay struct {
	name, session string
	end           context.CancelFunc
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
	a := &Access{
		records:  records,
		links:    map[string]link{},
		stays:    map[*stay]bool{},
		ended:    map[string]int{},
		checking: make(chan struct{}, checkedAtOnce),
	}
	hash, err := records.Setting(ctx, tokenSetting)
	if err == nil {
		a.tokenHash = hash
		return a, nil
	}
	if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	plain, hash := secret()
	file := filepath.Join(state, authority.TokenFile)
	if err := local.WriteFile(file, []byte(plain+"\n")); err != nil {
		return nil, fmt.Errorf("writing the token: %w", err)
	}
	a.tokenHash = hash
	return a, records.SetSetting(ctx, tokenSetting, hash)
}

// Token returns who is let in by a token. ok is false for one that is unknown, revoked or expired.
func (a *Access) Token(ctx context.Context, token string) (p Person, ok bool, err error) {
	hash, turn := hashOf(token), a.now()
	if subtle.ConstantTimeCompare([]byte(hash), []byte(a.tokenHash)) == 1 {
		return Person{Role: Admin}, true, nil
	}
	t, err := a.records.UseToken(ctx, hash, time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return p, false, nil
	}
	return Person{Name: t.Name, Role: Role(t.Role), Expires: t.Expires, Works: worksOf(t.WorksOn), turn: turn}, err == nil, err
}

// goodName is what a name of a token or of somebody looks like.
var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// named fails for what is no name, or no role.
func named(name string, role Role) error {
	if !goodName.MatchString(name) {
		return fmt.Errorf(
			"%w: the name %q may have small letters, digits and hyphens only, at most 63, and begins with a letter or digit",
			records.ErrInvalid,
			name,
		)
	}
	if !slices.Contains(roles, role) {
		return fmt.Errorf("%w: a role is one of %v, and not %q", records.ErrInvalid, roles, role)
	}
	return nil
}

// NewToken makes a token, and returns its secret, which is kept nowhere. expires is nil for one that does not.
func (a *Access) NewToken(
	ctx context.Context,
	name string,
	role Role,
	works Works,
	expires *time.Time,
) (t store.Token, plain string, err error) {
	if err := errors.Join(named(name, role), works.check()); err != nil {
		return t, "", err
	}
	plain, hash := secret()
	t = store.Token{Name: name, Role: string(role), Created: time.Now(), Expires: expires, WorksOn: works.text()}
	if err := a.records.AddToken(ctx, t, hash); err != nil {
		return t, "", err
	}
	return t, plain, nil
}

// Revoke lets nobody in by a token any more, nor by what came of it.
func (a *Access) Revoke(ctx context.Context, name string) error {
	return a.shut(ctx, name, "", a.records.RemoveToken)
}

// shut does what changes by what somebody is let in, and ends what came of it, but for one session; an empty one is none.
func (a *Access) shut(ctx context.Context, name, but string, change func(ctx context.Context, name string) error) error {
	a.mu.Lock()
	maps.DeleteFunc(a.links, func(_ string, l link) bool { return l.of.Name == name })
	a.mu.Unlock()
	err := change(ctx, name)
	if err == nil {
		err = a.records.RemoveSessionsOf(ctx, name, but)
	}
	if err != nil {
		return err
	}
	a.end(name, func(s *stay) bool { return s.name == name && (but == "" || s.session != but) })
	return nil
}

// end ends the stays of those that are let in no more, and of those who come in at this moment: by a name, or the ID of a session.
func (a *Access) end(of string, which func(*stay) bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.turn++
	a.ended[of] = a.turn
	for s := range a.stays {
		if which(s) {
			s.end()
		}
	}
}

// now is the present turn.
func (a *Access) now() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.turn
}

// While returns a context that ends when somebody is not let in any more: when their token is revoked, or that or their session expires. The caller ends it.
func (a *Access) While(ctx context.Context, p Person) (context.Context, context.CancelFunc) {
	var end context.CancelFunc
	if p.Expires != nil {
		ctx, end = context.WithDeadline(ctx, *p.Expires)
	} else {
		ctx, end = context.WithCancel(ctx)
	}
	s := &stay{p.Name, p.Session, end}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.stays[s] = true
	if p.turn < max(a.ended[p.Name], a.ended[p.Session]) { // while they came in
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

// Enter uses up a link's key and begins a session, from an address. ok is false for a key that is unknown, used or too old.
func (a *Access) Enter(ctx context.Context, key, origin string) (session string, expires time.Time, ok bool, err error) {
	hash := hashOf(key)
	a.mu.Lock()
	l, known := a.links[hash]
	delete(a.links, hash)
	a.mu.Unlock()
	now := time.Now()
	if !known || now.After(l.until) || l.of.Expires != nil && now.After(*l.of.Expires) {
		return "", time.Time{}, false, nil
	}
	session, of, err := a.begin(ctx, l.of, origin)
	return session, of.Expires, err == nil, err
}

// begin begins a session of somebody, and returns its secret.
func (a *Access) begin(ctx context.Context, p Person, origin string) (plain string, of store.Session, err error) {
	plain, hash := secret()
	now := time.Now()
	of = store.Session{
		ID:      uuid.NewString(),
		Who:     p.Name,
		Role:    string(p.Role),
		Origin:  origin,
		Begun:   now,
		Expires: now.Add(sessionLifetime),
		WorksOn: p.Works.text(),
	}
	if p.Expires != nil && p.Expires.Before(of.Expires) {
		of.Expires = *p.Expires
	}
	return plain, of, a.records.AddSession(ctx, of, hash)
}

// Session returns whose a session is. ok is false for one that has ended.
func (a *Access) Session(ctx context.Context, session string) (p Person, ok bool, err error) {
	turn := a.now()
	of, err := a.records.Session(ctx, hashOf(session), time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return p, false, nil
	}
	return Person{of.Who, Role(of.Role), &of.Expires, of.ID, worksOf(of.WorksOn), turn}, err == nil, err
}

// Sessions are those that somebody may end: an Admin's are all.
func (a *Access) Sessions(ctx context.Context, p Person) ([]store.Session, error) {
	all, err := a.records.Sessions(ctx, time.Now())
	if p.Role != Admin {
		all = slices.DeleteFunc(all, func(s store.Session) bool { return s.Who != p.Name })
	}
	return all, err
}

// EndSession ends one of the sessions that somebody may end, or fails with ErrNotFound.
func (a *Access) EndSession(ctx context.Context, p Person, id string) error {
	all, err := a.Sessions(ctx, p)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(all, func(s store.Session) bool { return s.ID == id }) {
		return fmt.Errorf("session %q: %w", id, store.ErrNotFound)
	}
	if err := a.records.RemoveSession(ctx, id); err != nil {
		return err
	}
	a.end(id, func(s *stay) bool { return s.session == id })
	return nil
}
