//go:build linux && !elsewhere

package local

import (
	"path"

	"bagaglio/core/device"
	"bagaglio/core/storage"
)

// Disks are the physical disks of this computer that a file lies on, or would.
func (f *Folder) Disks(name string) ([]string, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	return device.Beneath(device.Here{}, path.Join(f.root.Name(), name))
}
