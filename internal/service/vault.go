package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// vault encrypts what hosts are logged in to with (AES-256-GCM). Its key lies beside the records, for the user of the service only: the
// records alone, as in a backup, tell nothing.
type vault struct{ aead cipher.AEAD }

// secretsKeyFile is the file in the state folder that holds the vault's key.
const secretsKeyFile = "secrets.key"

func openVault(state string) (*vault, error) {
	file := filepath.Join(state, secretsKeyFile)
	key, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key) // never fails (crypto/rand)
		err = os.WriteFile(file, key, 0o600)
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
	return &vault{aead}, err
}

// lock encrypts a secret that belongs to a name.
func (v *vault) lock(name string, plain []byte) []byte {
	return v.aead.Seal(nil, nil, plain, []byte(name))
}

// open decrypts it.
func (v *vault) open(name string, locked []byte) ([]byte, error) {
	plain, err := v.aead.Open(nil, nil, locked, []byte(name))
	if err != nil {
		return nil, fmt.Errorf("what %s is logged in to with cannot be decrypted: the file %s is not the one that it was encrypted with; give it again", name, secretsKeyFile)
	}
	return plain, nil
}

// maxSecret bounds a secret that is read from a file, in bytes.
const maxSecret = 64 << 10

// fetch returns a secret, from the file or variable that it names if it does.
func fetch(secret string) (string, error) {
	if file, ok := strings.CutPrefix(secret, "file:"); ok {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("reading a secret: %w", err)
		}
		if len(b) > maxSecret {
			return "", fmt.Errorf("the secret in %s is longer than %d bytes", file, maxSecret)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
	if name, ok := strings.CutPrefix(secret, "env:"); ok {
		value, ok := os.LookupEnv(name)
		if !strings.HasPrefix(name, "BAGAGLIO_") || !ok {
			return "", fmt.Errorf("a secret is to come from the variable %s: it has to begin with BAGAGLIO_ and be set where the service runs", name)
		}
		return value, nil
	}
	return secret, nil
}
