package local

import (
	"errors"
	"io/fs"
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
	for {
		disks, err := device.Beneath(device.Here{}, path.Join(f.root.Name(), name))
		if !errors.Is(err, fs.ErrNotExist) || name == "." {
			return disks, err
		}
		name = path.Dir(name)
	}
}
