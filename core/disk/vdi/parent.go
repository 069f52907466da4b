package vdi

import (
	"context"
	"errors"
	"path"
	"path/filepath"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// Bounds of the search for a parent, which is known by its UUID only.
const (
	maxSearched = 4096 // files whose headers are looked at
	maxDepth    = 8    // of folders
)

// openParent looks for the parent beside the image, and then in the whole pool. It has to be as it was when this disk was
// put on it.
func (r *reader) openParent(ctx context.Context, o disk.Origin) error {
	s := search{folder: o.Folder, id: r.header.parent, except: path.Clean(o.Name), left: maxSearched}
	beside := path.Dir(o.Name)
	if o.Home != "" {
		beside = o.Home
	}
	name, err := s.find(ctx, beside, 0)
	if err == nil && name == "" {
		name, err = s.find(ctx, ".", maxDepth)
	}
	if err != nil {
		return err
	}
	if name == "" {
		return disk.Unsupported(
			"the disk stands on the disk %s, which is not in its folder or pool: bring it here too",
			uuid.UUID(r.header.parent),
		)
	}
	relative, err := filepath.Rel(beside, name)
	if err != nil {
		return err
	}
	base, err := o.Base(ctx, relative, "vdi")
	if err != nil {
		return err
	}
	below, ok := base.(*reader)
	if !ok || r.header.parentAt != [16]byte{} && below.header.changed != r.header.parentAt {
		return errors.Join(
			disk.Damaged("the parent %q has changed since this disk was put on it: together they make no sense", relative),
			base.Close(),
		)
	}
	r.Base, r.parent = base, relative
	return nil
}

// search goes through folders for the image with a UUID.
type search struct {
	folder storage.Folder
	id     [16]byte
	except string
	left   int // files that may still be looked at
}

// find returns the name of the image in dir, or below it down to a depth; empty when it is not there.
func (s *search) find(ctx context.Context, dir string, depth int) (string, error) {
	infos, err := s.folder.List(dir)
	if err != nil {
		return "", err
	}
	for _, i := range infos {
		if err := ctx.Err(); err != nil {
			return "", err
		}
		switch {
		case i.IsDir && depth > 0:
			if name, err := s.find(ctx, i.Name, depth-1); err == nil && name != "" {
				return name, nil
			}
		case i.Regular && i.Size >= headerEnd && i.Name != s.except && s.left > 0:
			s.left--
			if s.is(i.Name) {
				return i.Name, nil
			}
		}
	}
	return "", nil
}

// is tells whether a file is the image. What cannot be read is not.
func (s *search) is(name string) bool {
	file, err := s.folder.Open(name)
	if err != nil {
		return false
	}
	defer file.Close()
	b := make([]byte, headerEnd)
	if _, err := file.ReadAt(b, 0); err != nil {
		return false
	}
	h, err := decodeHeader(b)
	return err == nil && h.id == s.id
}
