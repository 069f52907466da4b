package disks

import (
	"strings"

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

// isIt tells whether a file is the one that was noted. Versions count as far as both are known.
func isIt(noted, now string) bool {
	notedID, notedVersion, _ := strings.Cut(noted, versioned)
	nowID, nowVersion, _ := strings.Cut(now, versioned)
	return notedID == nowID && storage.SameVersion(notedVersion, nowVersion)
}
