//go:build linux && !elsewhere

package local

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"bagaglio/core/storage"

	"golang.org/x/sys/unix"
)

// kept are the extended attributes that go along with a file: access lists, the label of the system, and what users note (xattr(7)).
func isKept(name string) bool {
	return strings.HasPrefix(name, "user.") || name == "security.selinux" || name == "system.posix_acl_access"
}

// maxLabels bounds the names of the attributes of one file, and maxLabel the value of one, in bytes (the kernel's own limits).
const maxLabels, maxLabel = 64 << 10, 64 << 10

// Labels returns the extended attributes of a file that go along with it.
func (f *Folder) Labels(name string) (map[string][]byte, error) {
	file, err := f.openPlain(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	names := make([]byte, maxLabels)
	n, err := unix.Flistxattr(int(file.Fd()), names)
	if errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the extended attributes of %s: %w", name, err)
	}
	labels := map[string][]byte{}
	for one := range bytes.SplitSeq(names[:n], []byte{0}) {
		if !isKept(string(one)) {
			continue
		}
		value := make([]byte, maxLabel)
		n, err := unix.Fgetxattr(int(file.Fd()), string(one), value)
		if err != nil {
			return nil, fmt.Errorf("reading the extended attribute %s of %s: %w", one, name, err)
		}
		labels[string(one)] = value[:n]
	}
	return labels, nil
}

// SetLabels sets extended attributes of a file.
func (f *Folder) SetLabels(name string, labels map[string][]byte) error {
	if len(labels) == 0 {
		return nil
	}
	file, err := f.openPlain(name)
	if err != nil {
		return err
	}
	defer file.Close()
	for _, one := range slices.Sorted(maps.Keys(labels)) {
		if setErr := unix.Fsetxattr(int(file.Fd()), one, labels[one], 0); setErr != nil {
			err = errors.Join(err, fmt.Errorf("setting the extended attribute %s of %s: %w", one, name, setErr))
		}
	}
	return err
}

// openPlain opens a regular file, to say something of it.
func (f *Folder) openPlain(name string) (*os.File, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	return file, plain(err)
}

// Gives tells whether this user may give a file to an owner.
func (f *Folder) Gives(owner string) bool {
	uid, gid, err := storage.ParseOwner(owner)
	if err != nil || os.Geteuid() == 0 {
		return err == nil
	}
	groups, err := os.Getgroups()
	return err == nil && uid == os.Geteuid() && (gid == os.Getegid() || slices.Contains(groups, gid))
}
