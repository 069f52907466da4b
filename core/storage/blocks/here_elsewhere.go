//go:build !linux

package blocks

import (
	"errors"
	"fmt"

	"bagaglio/core/device"
	"bagaglio/core/storage"
)

// Here is this computer, whose physical disks are not reached: a service on Linux reaches its own, and those of its hosts.
type Here struct{ device.Here }

// errElsewhere is why.
var errElsewhere = fmt.Errorf("physical disks are reached from Linux: %w", errors.ErrUnsupported)

// OpenDevice fails.
func (Here) OpenDevice(device.Device) (storage.File, error) { return nil, errElsewhere }

// OverwriteDevice fails.
func (Here) OverwriteDevice(device.Device) (storage.File, error) { return nil, errElsewhere }

// OpenVolume fails.
func (Here) OpenVolume(string, int64, bool) (storage.File, error) { return nil, errElsewhere }

// Start fails.
func (Here) Start(string, ...string) (Script, error) { return Script{}, errElsewhere }

// Held fails.
func (Here) Held(device.Device) (bool, error) { return false, errElsewhere }

// Close has nothing to close.
func (Here) Close() error { return nil }
