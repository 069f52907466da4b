package storage

import (
	"errors"
	"fmt"
	"io/fs"
)

// WriteFile makes a small file, and syncs it. What an earlier time left under its name is removed before: nobody goes by it as long as the name
// of its folder is not synced (Folder.Sync), which is left to the caller.
func WriteFile(folder Folder, name string, content []byte) error {
	if err := folder.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing %s, which an earlier time left: %w", name, err)
	}
	file, err := folder.Create(name)
	if err != nil {
		return err
	}
	_, err = file.WriteAt(content, 0)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
