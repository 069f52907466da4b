package device

import (
	"os"
	"path/filepath"
)

// Here is this computer.
type Here struct{}

// ReadFile reads a file.
func (Here) ReadFile(name string) ([]byte, error) { return os.ReadFile(name) }

// ReadDir returns the names in a folder.
func (Here) ReadDir(name string) (names []string, err error) {
	all, err := os.ReadDir(name)
	for _, e := range all {
		names = append(names, e.Name())
	}
	return names, err
}

// Real follows links.
func (Here) Real(name string) (string, error) { return filepath.EvalSymlinks(name) }
