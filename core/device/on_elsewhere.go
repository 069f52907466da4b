//go:build !linux

package device

import (
	"errors"
	"fmt"
)

// On is not told on this system.
func (Here) On(name string) (string, error) {
	return "", fmt.Errorf("telling on which device %s lies: %w", name, errors.ErrUnsupported)
}
