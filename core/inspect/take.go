package inspect

import (
	"context"
	"fmt"
	"io"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// Taken is a file of a disk that is being taken out. The caller closes it.
type Taken struct {
	io.Reader
	Size     int64
	Modified time.Time
	disk     disk.Reader
}

// Close closes the disk.
func (t *Taken) Close() error { return t.disk.Close() }

// Take opens a file inside of a disk. It fails with storage.ErrNotFile for anything else.
func Take(ctx context.Context, o disk.Origin, format string, spot Spot) (t *Taken, err error) {
	d, err := o.Open(ctx, format)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", o.Name, err)
	}
	defer func() {
		if err != nil {
			_ = d.Close() // it was only read
		}
	}()
	v, err := On(d, spot)
	if err != nil {
		return nil, err
	}
	f, err := v.Open(spot.Path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s: %w: it is a folder", spot, storage.ErrNotFile)
	}
	return &Taken{f, info.Size(), info.ModTime(), d}, nil
}

// Folder lists a folder inside of a disk.
func Folder(ctx context.Context, o disk.Origin, format string, spot Spot) ([]Found, error) {
	d, err := o.Open(ctx, format)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", o.Name, err)
	}
	defer d.Close()
	return listing(d, spot)
}
