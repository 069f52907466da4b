package disks

import (
	"maps"
	"slices"
	"strings"

	"bagaglio/core/receipt"
	"bagaglio/core/storage"
)

// versioned stands between the identity of a file and its version, which tells it from another one that came into being when it was gone: then
// a filesystem may give the same identity again.
const versioned = "@"

// identity is by which a file is known again under another name, empty where the storage cannot tell.
func identity(folder storage.Folder, name string) (string, error) {
	info, err := folder.Stat(name)
	if err != nil || info.ID == "" {
		return "", err
	}
	v, ok := storage.As[storage.Versioner](folder)
	if !ok {
		return info.ID, nil
	}
	version, err := v.Version(name)
	if err != nil { // it belongs to somebody else by now
		return info.ID, nil
	}
	return info.ID + versioned + version, nil
}

// isIt tells whether a file is the one that was noted, as far as that is known: whoever looks now may reach the storage in a way that tells no identity,
// as through the host of one who noted it there. Versions count as far as both are known.
func isIt(noted, now string) bool {
	if now == "" {
		return true
	}
	notedID, notedVersion, _ := strings.Cut(noted, versioned)
	nowID, nowVersion, _ := strings.Cut(now, versioned)
	return notedID == nowID && storage.SameVersion(notedVersion, nowVersion)
}

// unidentified notes in the receipt that nothing was proven, where the storage told no identity of files, or tells none to whoever looks now.
func (w *work) unidentified(folder storage.Folder, noted map[string]string) {
	now, err := identity(folder, ".")
	if err == nil && now != "" && !slices.Contains(slices.Collect(maps.Values(noted)), "") {
		return
	}
	w.proof.Outcome, w.proof.Compared = receipt.Unproven, "nothing: the storage tells no identity of files"
	w.proof.Reason = "files got other names, and their content was not read"
}
