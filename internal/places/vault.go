package places

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
		return nil, fmt.Errorf(
			"what %s is logged in to with cannot be decrypted: the file %s is not the one that it was encrypted with; give it again",
			name,
			secretsKeyFile,
		)
	}
	return plain, nil
}
