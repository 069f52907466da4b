// Package vault encrypts secrets that are kept in the records.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"bagaglio/core/storage/local"
)

// Vault encrypts secrets (AES-256-GCM). Its key lies beside the records, for the user of the service only: the records alone, as in a backup,
// tell nothing.
type Vault struct{ aead cipher.AEAD }

// keyFile is the file in the state folder that holds the vault's key.
const keyFile = "secrets.key"

// Open takes the key of a state folder, and makes it the first time.
func Open(state string) (*Vault, error) {
	file := filepath.Join(state, keyFile)
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key) // never fails (crypto/rand)
		err = local.WriteFile(file, key)
	}
	if err == nil && len(key) != 32 {
		err = errors.New("it is not 32 bytes long")
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key of the secrets in %s: %w", file, err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return &Vault{aead}, err
}

// Lock encrypts a secret that belongs to a name.
func (v *Vault) Lock(name string, plain []byte) []byte {
	return v.aead.Seal(nil, nil, plain, []byte(name))
}

// Open decrypts it.
func (v *Vault) Open(name string, locked []byte) ([]byte, error) {
	plain, err := v.aead.Open(nil, nil, locked, []byte(name))
	if err != nil {
		return nil, fmt.Errorf(
			"what %s has for a secret cannot be decrypted: the file %s is not the one that it was encrypted with; give it again",
			name,
			keyFile,
		)
	}
	return plain, nil
}
