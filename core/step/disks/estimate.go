package disks

import (
	"context"
	"errors"
	"io"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/flate"
)

const (
	estimateIn   = 64       // places of the disk
	estimateRead = 64 << 10 // bytes in each
)

// shrinks estimates by a sample what part of the stored content of a disk is left when it is compressed, from 0 to 1.
func shrinks(ctx context.Context, src disk.Reader) (float64, error) {
	stored, _, err := disk.Allocated(ctx, src)
	if err != nil || stored == 0 {
		return 0, err
	}
	var counted written
	z, err := flate.NewWriter(&counted, flate.BestSpeed)
	if err != nil {
		return 0, err
	}
	every := max(stored/estimateIn, estimateRead)
	p := make([]byte, estimateRead)
	var passed, next, read int64 // stored bytes
	var failed error
	err = disk.Survey(ctx, src, func(e disk.Extent) {
		for failed == nil && e.Kind == disk.Data && next < passed+e.Len {
			at := e.Off + max(next-passed, 0)
			part := p[:min(estimateRead, e.End()-at)]
			if n, err := src.ReadAt(part, at); n < len(part) && !errors.Is(err, io.EOF) {
				failed = err
				return
			}
			if _, failed = z.Write(part); failed != nil {
				return
			}
			read += int64(len(part))
			next += every
		}
		if e.Kind == disk.Data {
			passed += e.Len
		}
	})
	if errors.Is(err, disk.ErrNotAll) { // what was seen of it will do
		err = nil
	}
	if err = errors.Join(err, failed, z.Close()); err != nil || read == 0 {
		return 1, err
	}
	return min(1, float64(counted)/float64(read)), nil
}

// written counts what is written.
type written int64

func (w *written) Write(p []byte) (int, error) {
	*w += written(len(p))
	return len(p), nil
}
