package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/internal/store"
)

const (
	// TokenFile is the file in the state folder from which the client on this computer takes the token.
	TokenFile = "token"

	tokenSetting    = "token_hash"
	linkLifetime    = 15 * time.Minute
	sessionLifetime = 12 * time.Hour
)

// access holds what lets people in. Secrets have 256 random bits and are kept as SHA-256 only.
type access struct {
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

// prepareAccess makes the token at the first start and leaves it in a file that only the user of the service can read.
func (s *Service) prepareAccess(ctx context.Context) error {
	s.access.links = map[string]time.Time{}
	hash, err := s.store.Setting(ctx, tokenSetting)
	if err == nil {
		s.access.tokenHash = hash
		return nil
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	plain, hash := secret()
	file := filepath.Join(s.state, TokenFile)
	if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("removing an old token: %w", err)
	}
	if err := os.WriteFile(file, []byte(plain+"\n"), 0o600); err != nil {
		return fmt.Errorf("writing the token: %w", err)
	}
	s.access.tokenHash = hash
	return s.store.SetSetting(ctx, tokenSetting, hash)
}

// TokenIsValid tells whether the token lets its bearer in.
func (s *Service) TokenIsValid(token string) bool {
	return subtle.ConstantTimeCompare([]byte(hashOf(token)), []byte(s.access.tokenHash)) == 1
}

// NewLink returns a key that opens one session, and until when it holds.
func (s *Service) NewLink() (key string, until time.Time) {
	key, hash := secret()
	until = time.Now().Add(linkLifetime)
	s.access.mu.Lock()
	defer s.access.mu.Unlock()
	s.access.links[hash] = until
	return key, until
}

// Enter uses up a link's key and begins a session. ok is false for a key that is unknown, used or too old.
func (s *Service) Enter(ctx context.Context, key string) (session string, expires time.Time, ok bool, err error) {
	hash := hashOf(key)
	s.access.mu.Lock()
	until, known := s.access.links[hash]
	delete(s.access.links, hash)
	s.access.mu.Unlock()
	if !known || time.Now().After(until) {
		return "", time.Time{}, false, nil
	}
	session, hash = secret()
	expires = time.Now().Add(sessionLifetime)
	err = s.store.AddSession(ctx, hash, time.Now(), expires)
	return session, expires, err == nil, err
}

// SessionIsValid tells whether the session lets its bearer in.
func (s *Service) SessionIsValid(ctx context.Context, session string) (bool, error) {
	return s.store.HasSession(ctx, hashOf(session), time.Now())
}

// EndSession ends a session.
func (s *Service) EndSession(ctx context.Context, session string) error {
	return s.store.RemoveSession(ctx, hashOf(session))
}
