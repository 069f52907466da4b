package volumes

import (
	"errors"
	"fmt"
	"io/fs"

	"bagaglio/core/storage"
)

// Snapshot returns the folder with a volume as it is at this moment, whoever writes to it: what is read under the name comes from a snapshot of it, which is called
// as, and is removed by drop. One of that name that an earlier time left is removed first.
func (f *Folder) Snapshot(name, as string) (still storage.Folder, drop func() error, err error) {
	if err := f.dropSnapshot(name, as); err != nil {
		return nil, nil, err
	}
	of, err := f.findNow("take a snapshot of", name)
	if err != nil {
		return nil, nil, err
	}
	called, err := f.encode(as)
	if err != nil {
		return nil, nil, err
	}
	err = f.tools.snapshot(of, called)
	f.known.forget()
	if err != nil {
		return nil, nil, fmt.Errorf("taking a snapshot of %s: %w", name, err)
	}
	return &snapped{Folder: f, name: name, as: as}, func() error { return f.dropSnapshot(name, as) }, nil
}

// dropSnapshot removes a snapshot that there may be.
func (f *Folder) dropSnapshot(name, as string) error {
	of, err := f.encode(name)
	if err != nil {
		return err
	}
	v, err := f.find("remove", as)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.known.forget()
	if err := f.tools.drop(of, v.name); err != nil {
		return fmt.Errorf("removing the snapshot %s: %w", v.name, err)
	}
	return nil
}

// snapped is a folder of which a name leads to a snapshot.
type snapped struct {
	*Folder
	name, as string
}

func (s *snapped) is(name string) string {
	if clean, err := storage.Clean(name); err == nil && clean == s.name {
		return s.as
	}
	return name
}

// Open opens the snapshot, or something else.
func (s *snapped) Open(name string) (storage.File, error) { return s.Folder.Open(s.is(name)) }

// Stat tells of the snapshot.
func (s *snapped) Stat(name string) (storage.Info, error) {
	info, err := s.Folder.Stat(s.is(name))
	info.Name = name
	return info, err
}

// InUse tells of the snapshot, which nobody but this process uses.
func (s *snapped) InUse(name string) (string, error) { return s.Folder.InUse(s.is(name)) }

// Written tells of the snapshot: nobody writes to it.
func (s *snapped) Written(name string) (string, error) { return s.Folder.Written(s.is(name)) }

// Fresh returns the same folder, read past what the system remembers.
func (s *snapped) Fresh() storage.Folder {
	fresh := *s
	fresh.Folder = s.Folder.Fresh().(*Folder)
	return &fresh
}

// Close leaves the folder open, which others use.
func (s *snapped) Close() error { return nil }
