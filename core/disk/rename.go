package disk

import (
	"errors"
	"strings"

	"bagaglio/core/storage"
)

// Renamed is a path in an image, with slashes of either kind, after files got new names: its last part is looked up, the folders stay.
func Renamed(text string, names map[string]string) string {
	last := strings.LastIndexAny(text, `/\`) + 1
	if to, ok := names[text[last:]]; ok {
		return text[:last] + to
	}
	return text
}

// Amend opens a file of an image for a small change, and syncs it when there was one.
func Amend(folder storage.Folder, name string, change func(storage.File) (changed bool, err error)) (changed bool, err error) {
	file, err := folder.Reopen(name)
	if err != nil {
		return false, err
	}
	changed, err = change(file)
	if changed && err == nil {
		err = file.Sync()
	}
	return changed, errors.Join(err, file.Close())
}
