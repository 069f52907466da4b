package disk

import (
	"errors"
	"strings"

	"bagaglio/core/storage"
)

// Renamed is a path in an image, with slashes of either kind, after files got new names: where it is not there as a whole, its last part is looked up,
// and the folders stay.
func Renamed(text string, names map[string]string) string {
	if to, ok := names[text]; ok {
		return to
	}
	last := strings.LastIndexAny(text, `/\`) + 1
	if to, ok := names[text[last:]]; ok {
		return text[:last] + to
	}
	return text
}

// RenameIn changes names in a file of an image of that format, and syncs it when anything had to be changed.
func (f Format) RenameIn(folder storage.Folder, name string, names map[string]string) (changed bool, err error) {
	file, err := folder.Reopen(name)
	if err != nil {
		return false, err
	}
	raw := map[string]string{} // as they are in the image
	for from, to := range names {
		raw[storage.RawName(from)] = storage.RawName(to)
	}
	changed, err = f.Rename(file, raw)
	if changed && err == nil {
		err = file.Sync()
	}
	return changed, errors.Join(err, file.Close())
}
