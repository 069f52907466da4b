package disk

import "strings"

// Renamed is a path in an image, with slashes of either kind, after files got new names: its last part is looked up, the folders stay.
func Renamed(text string, names map[string]string) string {
	last := strings.LastIndexAny(text, `/\`) + 1
	if to, ok := names[text[last:]]; ok {
		return text[:last] + to
	}
	return text
}
