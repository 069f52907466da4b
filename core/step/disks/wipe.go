package disks

import (
	"context"
	"errors"
	"fmt"
	"io"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// wipedAtOnce is how much of a disk is wiped between two looks whether to go on, in bytes.
const wipedAtOnce = 64 << 20

// wipe has what the image does not reach of the disk read as zeros, and reads that back. It may be done again.
func (w *work) wipe(ctx context.Context) error {
	if err := w.enter(ctx, plan.StepWipe); err != nil {
		return err
	}
	var meter transfer.Meter
	return w.report.Run(plan.StepWipe, &meter, nil, func() (err error) {
		file, err := w.device()
		if err != nil {
			return err
		}
		from, size := w.src.Size(), w.disk.After.VirtualSize
		err = w.wipeRange(ctx, file, from, size, &meter)
		w.proof.BytesWritten += meter.Written.Load()
		if err := errors.Join(err, file.Sync(), file.Close()); err != nil {
			return destination(fmt.Errorf("wiping what the image does not reach: %w", err))
		}
		back, err := w.Ends.Destination.Open(w.disk.After.Place.Path)
		if err != nil {
			return destination(err)
		}
		defer func() { err = errors.Join(err, back.Close()) }()
		if err := w.areZeros(ctx, back, from, size); err != nil {
			return destination(err)
		}
		w.remark(fmt.Sprintf("%s behind the image were wiped, and read back as zeros", plan.Bytes(size-from)))
		return nil
	})
}

func (w *work) wipeRange(ctx context.Context, file storage.File, from, size int64, meter *transfer.Meter) error {
	wiper, ok := file.(storage.Wiper)
	if !ok {
		return fmt.Errorf("this disk cannot be wiped: %w", errors.ErrUnsupported)
	}
	for off := from; off < size; off += wipedAtOnce {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := min(wipedAtOnce, size-off)
		err := wiper.Wipe(off, n, w.disk.Request.Wipe == plan.WipeDiscard)
		if errors.Is(err, errors.ErrUnsupported) {
			err = fmt.Errorf("the disk cannot give it back (%w): have zeros written (--wipe zeros)", err)
		}
		if err != nil {
			return err
		}
		meter.Written.Add(n)
	}
	return nil
}

// areZeros fails where a range of a disk is anything but zeros.
func (w *work) areZeros(ctx context.Context, r io.ReaderAt, from, size int64) error {
	b := make([]byte, fingerprint.LeafSize)
	for off := from; off < size; off += int64(len(b)) {
		if w.Wait != nil {
			if err := w.Wait(ctx, int64(len(b))); err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		part := b[:min(int64(len(b)), size-off)]
		if _, err := r.ReadAt(part, off); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading back what was wiped: %w", err)
		}
		if !fingerprint.IsZero(part) {
			return fmt.Errorf("%w: what was wiped does not read as zeros in the MiB at offset %d", errNotAsWritten, off)
		}
	}
	return nil
}
