package carry

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/fit"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/salvage"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
)

// Salvaged is the file with what was read of a disk that fails.
const Salvaged = "salvaged.raw"

// image is a disk that becomes an image of a format.
type image struct {
	plan.Disk
	ends Ends
}

func (i image) Open(ctx context.Context) (disk.Reader, error) {
	if i.Request.Dying {
		folder, err := local.Open(i.ends.Changed)
		if err != nil {
			return nil, err
		}
		d, err := disk.Open(ctx, folder, Salvaged, "raw")
		if err != nil {
			return nil, err
		}
		return inspect.Like(i.ends.Failing, d), nil // an earlier time may have read more of it
	}
	src, err := inspect.Open(ctx, i.Request.Source.Origin(i.ends.Source), i.Before.Format, i.Request.Selection())
	if err != nil || i.Fit == nil {
		return src, err
	}
	d, err := fit.Changed(ctx, src, *i.Fit, i.ends.Changed)
	if err != nil {
		return nil, errors.Join(err, src.Close())
	}
	return d, nil
}

func (i image) Dir() string { return path.Dir(path.Clean(i.Request.Destination.Path)) }
func (i image) Size() int64 { return i.After.VirtualSize }
func (i image) Guest() bool { return true }

func (i image) Create(t disk.Target) (disk.Writer, error) {
	f, err := disk.Lookup(i.Request.As)
	if err != nil {
		return nil, err
	}
	return f.Create(t)
}

func (i image) Resume(t disk.Target, given func(yield func(disk.Written, error) bool)) (disk.Writer, error) {
	f, err := disk.Lookup(i.Request.As)
	if err != nil {
		return nil, err
	}
	return disk.Resume(f, t, given)
}

func (i image) Made(ctx context.Context) (disk.Reader, error) {
	o := disk.Origin{Folder: storage.Fresh(i.ends.Destination), Name: path.Join(i.ends.Staging, path.Base(i.After.Place.Path)), Home: i.Dir()}
	return o.Open(ctx, i.Request.As)
}

func (i image) Own(made []string) []string { return slices.DeleteFunc(slices.Clone(made), IsCompanion) }

// IsCompanion tells whether a file only says something of a disk: its tag, or checksums of its pieces.
func IsCompanion(name string) bool {
	return strings.HasSuffix(name, fingerprint.TagExtension) || strings.HasSuffix(name, salvage.Extension) ||
		strings.HasSuffix(name, inspect.SumsExtension)
}
