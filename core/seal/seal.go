// Package seal signs receipts and chains them, so that a change afterwards is seen. A seal is a JSON Web Signature (RFC
// 7515, compact, with Ed25519 as in RFC 8037) over a receipt, its number, and the digest of the seal before.
package seal

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"bagaglio/core/storage/local"

	"github.com/go-jose/go-jose/v4"
)

// ErrBroken is the error for a seal or a chain that does not hold.
var ErrBroken = errors.New("the seal is broken")

// Link is what a seal says.
type Link struct {
	Number   int64           `json:"number"`   // from 1 on, without a gap
	Previous string          `json:"previous"` // digest of the seal before, empty in the first one
	Job      int64           `json:"job"`
	Receipt  json.RawMessage `json:"receipt"`
}

// Key makes seals.
type Key struct {
	private jose.JSONWebKey
	signer  jose.Signer
}

// OpenKey reads the key in a file, a JSON Web Key that only its owner can read, or makes one where there is none.
func OpenKey(file string) (*Key, error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = newKey(); err == nil {
			err = local.WriteFile(file, b)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the key for receipts: %w", err)
	}
	k := &Key{}
	if err := k.private.UnmarshalJSON(b); err != nil {
		return nil, fmt.Errorf("reading the key for receipts in %s: %w", file, err)
	}
	if _, ok := k.private.Key.(ed25519.PrivateKey); !ok {
		return nil, fmt.Errorf("the key for receipts in %s is no private Ed25519 key", file)
	}
	k.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: k.private}, nil)
	return k, err
}

func newKey() ([]byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	k := jose.JSONWebKey{Key: private, Algorithm: string(jose.EdDSA), Use: "sig"}
	thumbprint, err := k.Thumbprint(crypto.SHA256)
	if err != nil {
		return nil, err
	}
	k.KeyID = base64.RawURLEncoding.EncodeToString(thumbprint)
	return k.MarshalJSON()
}

// Public is the part of the key that anybody may have, and with which seals are checked: a JSON Web Key.
func (k *Key) Public() jose.JSONWebKey { return k.private.Public() }

// Seal signs a link.
func (k *Key) Seal(l Link) (string, error) {
	b, err := json.Marshal(l)
	if err != nil {
		return "", err
	}
	text, err := k.Sign(b)
	if err != nil {
		return "", fmt.Errorf("sealing receipt %d: %w", l.Number, err)
	}
	return text, nil
}

// Sign signs a text: a JSON Web Signature in its compact form (RFC 7515).
func (k *Key) Sign(text []byte) (string, error) {
	signed, err := k.signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// Digest is what the next link says of a seal: SHA-256 of its text, in base64url.
func Digest(sealed string) string {
	sum := sha256.Sum256([]byte(sealed))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// Verify checks the signature of a text, and returns that.
func Verify(text string, public jose.JSONWebKey) ([]byte, error) {
	signed, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return nil, fmt.Errorf("%w: it cannot be read: %w", ErrBroken, err)
	}
	b, err := signed.Verify(public)
	if err != nil {
		return nil, fmt.Errorf("%w: it was not made with this key, or was changed since", ErrBroken)
	}
	return b, nil
}

// Open checks the signature of a seal and returns what it says.
func Open(sealed string, public jose.JSONWebKey) (l Link, err error) {
	b, err := Verify(sealed, public)
	if err != nil {
		return l, err
	}
	if err := json.Unmarshal(b, &l); err != nil {
		return l, fmt.Errorf("%w: %w", ErrBroken, err)
	}
	return l, nil
}

// Chain checks seals one after the other.
type Chain struct {
	Public jose.JSONWebKey
	Length int64  // how many were added
	Head   string // digest of the last one
}

// Add checks that a seal is the next one, and returns what it says.
func (c *Chain) Add(sealed string) (Link, error) {
	l, err := Open(sealed, c.Public)
	switch {
	case err != nil:
		return l, fmt.Errorf("receipt %d: %w", c.Length+1, err)
	case l.Number != c.Length+1:
		return l, fmt.Errorf("%w: after receipt %d comes number %d: one was taken out or put in", ErrBroken, c.Length, l.Number)
	case l.Previous != c.Head:
		return l, fmt.Errorf("%w: receipt %d does not follow the one before it: that one was replaced", ErrBroken, l.Number)
	}
	c.Length, c.Head = l.Number, Digest(sealed)
	return l, nil
}
