package places

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"bagaglio/core/fingerprint"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Call says what people call a disk, and notes something on it, in its tag.
func (s *Places) Call(ctx context.Context, pool, path, called, note string) error {
	called, note = storage.Printable(called), storage.Printable(note)
	if len(called) > fingerprint.MaxCalled || len(note) > fingerprint.MaxNote {
		return fmt.Errorf(
			"%w: a disk is called by up to %d bytes, with a note of up to %d",
			records.ErrInvalid,
			fingerprint.MaxCalled,
			fingerprint.MaxNote,
		)
	}
	name, err := storage.Clean(path)
	if err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	folder, err := s.Folder(ctx, pool)
	if err != nil {
		return err
	}
	if _, err := folder.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the disk %s:%s: %w", pool, name, store.ErrNotFound)
	} else if err != nil {
		return err
	}
	err = disks.Rename(folder, name, called, note)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s:%s has no tag that could say so: copying or converting it makes one", records.ErrState, pool, name)
	}
	if err != nil {
		return err
	}
	return s.Refresh(ctx, pool)
}
