package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// link leaves an image in the staging folder, synced, that stands on the source and stores nothing of its own. An earlier time's is made anew.
func (w *work) link(ctx context.Context) error {
	return w.report.Run(plan.StepLink, nil, nil, func() error {
		target, err := w.target(ctx)
		if err != nil {
			return destination(err)
		}
		defer target.Base.Close()
		if err := Clear(w.Ends.Destination, w.ID); err != nil {
			return destination(err)
		}
		dst, err := w.carried().Create(target)
		if err != nil {
			return destination(err)
		}
		w.state.Identifier, w.state.Created, w.state.Files = target.Identifier, target.Created, dst.Files()
		err = errors.Join(CloseOurs(w.Ends.Destination), w.enter(ctx, plan.StepLink))
		if err == nil {
			err = errors.Join(dst.Commit(ctx), w.syncFolders(w.staging()))
		}
		if err := errors.Join(err, dst.Close()); err != nil {
			return destination(err)
		}
		return w.isLinked(ctx)
	})
}

// sample is how much of the beginning and of the end of a linked image is compared, in bytes.
const sample = 1 << 20

// isLinked looks whether the new image stands on the source, and reads as that does at both ends.
func (w *work) isLinked(ctx context.Context) error {
	made, err := w.carried().Made(ctx)
	if err != nil {
		return destination(fmt.Errorf("opening what was made: %w", err))
	}
	defer made.Close()
	facts, err := look(ctx, w.Ends.Destination, made, checkAll)
	if err = errors.Join(err, facts.Problem); err != nil {
		return destination(fmt.Errorf("looking at what was made: %w", err))
	}
	if chain := facts.Description.Chain; !slices.Contains(chain, w.disk.Before.Place.Path) {
		return destination(fmt.Errorf("%w: it stands on %v, and not on %s", step.ErrNotProven, chain, w.disk.Before.Place.Path))
	}
	if made.Size() != w.src.Size() {
		return destination(fmt.Errorf("%w: it has %d bytes, and the source %d", step.ErrNotProven, made.Size(), w.src.Size()))
	}
	for _, off := range []int64{0, max(0, made.Size()-sample)} {
		if err := same(made, w.src, off, min(sample, made.Size()-off)); err != nil {
			return destination(err)
		}
	}
	side := *w.disk.After
	side.VirtualSize, side.AllocatedSize, side.FileSize = made.Size(), facts.Allocated, facts.FileSize
	r := &w.proof
	r.Destination = &receipt.Side{Side: side}
	r.Outcome = receipt.Proven
	r.Compared = fmt.Sprintf(
		"that the new image stands on %s and has nothing of its own: nothing was copied; and the first and the last MiB of both",
		w.disk.Before.Place.Path,
	)
	return nil
}

// same fails where a range of two disks differs.
func same(a, b disk.Reader, off, n int64) error {
	p, q := make([]byte, n), make([]byte, n)
	if err := errors.Join(disk.ReadFull(a, p, off), disk.ReadFull(b, q, off)); err != nil {
		return err
	}
	if !bytes.Equal(p, q) {
		return fmt.Errorf("%w: it is not what the source is at offset %d", step.ErrNotProven, off)
	}
	return nil
}
