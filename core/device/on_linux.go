package device

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// On is the number of the device that a file lies on.
func (Here) On(name string) (string, error) {
	var s unix.Stat_t
	if err := unix.Stat(name, &s); err != nil {
		return "", &os.PathError{Op: "stat", Path: name, Err: err}
	}
	return fmt.Sprintf("%d:%d", unix.Major(s.Dev), unix.Minor(s.Dev)), nil
}
