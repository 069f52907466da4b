package machines

import (
	"context"
	"fmt"

	"bagaglio/core/host"
)

// rest has the source go on from images that stand on its disks. From then on nobody writes into those.
func (w *work) rest(ctx context.Context) error {
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	if m.State != host.Off {
		return inUse(fmt.Sprintf("%s is %s: somebody started it while it was being copied.", w.m.Here(), m.State))
	}
	if string(m.Definition) != w.m.Rests { // otherwise an earlier time did it
		if is, err := describe(m); err != nil || slotOf(is, w.m.Before.Disks[0]) != "" {
			if err := w.changed(m); err != nil {
				return err
			}
		}
	}
	if _, err := w.Ends.From.Define(ctx, []byte(w.m.Rests)); err != nil {
		return fmt.Errorf("having %s go on from other images: %w", w.m.Here(), err)
	}
	w.evidence("%s goes on from images that stand on its disks, which rest", w.m.Here())
	return nil
}

// unrest gives the source its disks back. Nothing was written to the images that stand on them: it is off all the while.
func (w *work) unrest(ctx context.Context) error {
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	if m.State != host.Off {
		return inUse(fmt.Sprintf("%s is %s: somebody started it.", w.m.Here(), m.State))
	}
	if _, err := w.Ends.From.Define(ctx, []byte(w.m.Stored)); err != nil {
		return fmt.Errorf("giving %s its old definition: %w", w.m.Name, err)
	}
	return nil
}
