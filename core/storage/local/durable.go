//go:build linux && !elsewhere

package local

import (
	"errors"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
)

// WriteFile puts a small file that only its owner can read in the place of the one of that name, if there is one: the old one or the new
// one is there, whole, whatever happens, and the new one on stable storage when it returns.
func WriteFile(name string, content []byte) error {
	if err := renameio.WriteFile(name, content, 0o600); err != nil {
		return err
	}
	return SyncFolder(filepath.Dir(name))
}

// SyncFolder returns when the names in a folder are on stable storage.
func SyncFolder(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
