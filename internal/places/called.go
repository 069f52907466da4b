package places

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"bagaglio/core/catalog"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Call says what people call a disk, and what they note on it: in its tag, which goes along wherever it does, or in the records where it has none.
func (s *Places) Call(ctx context.Context, pool, at string, c plan.Called) error {
	c = plan.Called{Name: storage.Printable(c.Name), Note: storage.Printable(c.Note)}
	if len(c.Name) > fingerprint.MaxCalled || len(c.Note) > fingerprint.MaxNote {
		return fmt.Errorf(
			"%w: a disk is called by up to %d bytes, with a note of up to %d",
			records.ErrInvalid,
			fingerprint.MaxCalled,
			fingerprint.MaxNote,
		)
	}
	name, err := storage.Clean(at)
	if err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	folder, err := s.Folder(ctx, pool)
	if err != nil {
		return err
	}
	if err := s.call(ctx, folder, pool, name, c); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the disk %s:%s: %w", pool, name, store.ErrNotFound)
	} else if err != nil {
		return err
	}
	return s.Refresh(ctx, pool)
}

func (s *Places) call(ctx context.Context, folder storage.Folder, pool, name string, c plan.Called) error {
	info, err := folder.Stat(name)
	if err != nil {
		return err
	}
	kept := store.Called{Path: name, File: info.ID, Called: c}
	switch err := disks.Rename(folder, name, c.Name, c.Note); {
	case err == nil: // and not in two places
		kept.Called = plan.Called{}
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	defer s.lists.forget()
	return s.records.SetCalled(ctx, pool, kept)
}

// Named is what disks are called by the records, by their paths.
func (s *Places) Named(ctx context.Context, pool string, paths []string) (map[string]plan.Called, error) {
	kept, err := s.records.CalledAt(ctx, pool, paths)
	if err != nil || len(kept) == 0 {
		return nil, err
	}
	folder, err := s.Folder(ctx, pool)
	if err != nil {
		return nil, err
	}
	out := map[string]plan.Called{}
	for name, c := range kept {
		if info, err := folder.Stat(name); err == nil && info.ID == c.File {
			out[name] = c.Called
		}
	}
	return out, nil
}

// CallArrived has disks that have arrived be called as they were where they come from: those whose tags do not say so.
func (s *Places) CallArrived(ctx context.Context, d plan.Disk) error {
	to := *d.Request.Destination
	for from, c := range d.Called {
		name := to.Path
		for _, f := range d.Copied {
			if f.From == from {
				name = path.Join(d.Root, f.To)
			}
		}
		folder, err := s.Folder(ctx, to.Pool)
		if err != nil {
			return err
		}
		if _, err := folder.Stat(fingerprint.TagName(name)); err == nil && from == d.Request.Source.Path {
			continue // it was made with that
		}
		if err := s.call(ctx, folder, to.Pool, name, c); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("noting what %s:%s is called: %w", to.Pool, name, err)
		}
	}
	return nil
}

// CallDisks adds to disks on record what the records call those that have no tag.
func (s *Places) CallDisks(ctx context.Context, pool string, disks []catalog.Disk) error {
	var paths []string
	for _, d := range disks {
		paths = append(paths, d.Path)
	}
	kept, err := s.records.CalledAt(ctx, pool, paths)
	for i, d := range disks {
		c, ok := kept[d.Path]
		if ok && d.Called == "" && d.Note == "" && c.File == d.ID() {
			disks[i].Called, disks[i].Note = c.Name, c.Note
		}
	}
	return err
}
