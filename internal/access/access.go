// Package access lets people in: with the token, or with a session that a link opened once.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/core/storage/local"
	"bagaglio/internal/store"
)

const (
	// TokenFile is the file in the state folder from which the client on this computer takes the token.
	TokenFile = "token"

	tokenSetting    = "token_hash"
	linkLifetime    = 15 * time.Minute
	sessionLifetime = 12 * time.Hour
)

// Records keep what lets people in, as SHA-256 only.
type Records interface {
	Setting(ctx context.Context, name string) (string, error)
	SetSetting(ctx context.Context, name, value string) error
	AddSession(ctx context.Context, hash string, now, expires time.Time) error
	HasSession(ctx context.Context, hash string, now time.Time) (bool, error)
	RemoveSession(ctx context.Context, hash string) error
}

// Access holds what lets people in. Secrets have 256 random bits.
type Access struct {
	records   Records
	tokenHash string

	mu    sync.Mutex
	links map[string]time.Time // hashes of links that were not used yet, and until when they hold
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
	a := &Access{records: records, links: map[string]time.Time{}}
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

// TokenIsValid tells whether the token lets its bearer in.
func (a *Access) TokenIsValid(token string) bool {
	return subtle.ConstantTimeCompare([]byte(hashOf(token)), []byte(a.tokenHash)) == 1
}

// NewLink returns a key that opens one session, and until when it holds.
func (a *Access) NewLink() (key string, until time.Time) {
	key, hash := secret()
	until = time.Now().Add(linkLifetime)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.links[hash] = until
	return key, until
}

// Enter uses up a link's key and begins a session. ok is false for a key that is unknown, used or too old.
func (a *Access) Enter(ctx context.Context, key string) (session string, expires time.Time, ok bool, err error) {
	hash := hashOf(key)
	a.mu.Lock()
	until, known := a.links[hash]
	delete(a.links, hash)
	a.mu.Unlock()
	if !known || time.Now().After(until) {
		return "", time.Time{}, false, nil
	}
	session, hash = secret()
	expires = time.Now().Add(sessionLifetime)
	err = a.records.AddSession(ctx, hash, time.Now(), expires)
	return session, expires, err == nil, err
}

// SessionIsValid tells whether the session lets its bearer in.
func (a *Access) SessionIsValid(ctx context.Context, session string) (bool, error) {
	return a.records.HasSession(ctx, hashOf(session), time.Now())
}

// EndSession ends a session.
func (a *Access) EndSession(ctx context.Context, session string) error {
	return a.records.RemoveSession(ctx, hashOf(session))
}
