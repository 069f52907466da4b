//go:build !linux || elsewhere

package adapt

import (
	"context"
	"errors"
	"fmt"
)

// Apply fails: files inside of copies are written by Linux.
func Apply(context.Context, *Overlay, Changes, string) error { return Able("") }

// Able tells why files of a filesystem cannot be written here.
func Able(string) error {
	return fmt.Errorf("files inside of a copy are written where the service runs on Linux: %w", errors.ErrUnsupported)
}
