package device

import (
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
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

// On is the number of the device that a file lies on.
func (Here) On(name string) (string, error) {
	var s unix.Stat_t
	if err := unix.Stat(name, &s); err != nil {
		return "", &os.PathError{Op: "stat", Path: name, Err: err}
	}
	return fmt.Sprintf("%d:%d", unix.Major(s.Dev), unix.Minor(s.Dev)), nil
}
