package machines

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// A machine whose disks move while it runs: its guest writes to images that cover the old disks, which are copied and proven meanwhile; then its host mirrors what is in
// those to images on the new disks, has the guest go on from there, and writes it down into them. What its disks are stored in says how far that is.

// layers are the files that a disk of the machine is stored in, the topmost first.
func (w *work) layers(ctx context.Context, on step.Guests, m host.Machine, d plan.LiveDisk) ([]string, error) {
	files, err := on.Layers(ctx, m, d.Slot)
	if err == nil && len(files) == 0 {
		err = fmt.Errorf("%s does not tell what the disk %s of %s is stored in", w.m.Host, d.Slot, w.m.Name)
	}
	if err != nil {
		return nil, fmt.Errorf("looking what the disk %s is stored in: %w", d.Slot, err)
	}
	return files, nil
}

// cover has the guest write to new images.
func (w *work) cover(ctx context.Context) error {
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	if m.State != host.Running && m.State != host.Suspended {
		return inUse(fmt.Sprintf("%s is %s by now: plan it again.", w.m.Here(), m.State))
	}
	on := map[string]string{}
	for _, d := range w.m.Live {
		files, err := w.layers(ctx, w.Ends.From, m, d)
		if err != nil {
			return err
		}
		switch files[0] {
		case d.CoverAt: // an earlier time did it
		case d.WasFile:
			if err := w.layer(ctx, d.Cover, d.Was, d.OldForm, d.WasFile); err != nil {
				return err
			}
			on[d.Slot] = d.CoverAt
		default:
			return blocked("live", fmt.Sprintf("The disk %s of %s is stored in %s by now: plan it again.", d.Slot, w.m.Here(), files[0]))
		}
	}
	if len(on) == 0 {
		return nil
	}
	if err := w.changed(m); err != nil {
		return err
	}
	w.state.Receipt.WasRunning, w.state.Frozen = true, time.Now()
	if err := w.Keep(ctx); err != nil {
		return err
	}
	halted, err := w.Ends.From.Cover(ctx, m, on, false)
	w.stood(halted)
	if err != nil {
		return fmt.Errorf("having the guest of %s write to new images: %w", w.m.Here(), err)
	}
	w.evidence("its disks stand still as of %s, and its guest goes on", w.state.Frozen.Format(time.RFC3339))
	return nil
}

func (w *work) stood(halted time.Duration) { w.state.Stood += halted.Microseconds() }

// uncover has the guest go on from the old disks again, with what it wrote meanwhile.
func (w *work) uncover(ctx context.Context) error {
	m, err := w.goesOn(ctx)
	if err != nil {
		return err
	}
	for _, d := range w.m.Live {
		if m.State == host.Off {
			if err := w.isBack(m, d); err != nil {
				return err
			}
		} else if err := w.mergeInto(ctx, w.Ends.From, m, d, d.WasFile); err != nil {
			return err
		}
		for _, at := range []plan.Place{d.Top, d.Returned} {
			if err := w.unmake(at); err != nil {
				return err
			}
		}
	}
	if err := w.dropCovers(); err != nil {
		return err
	}
	w.state.Receipt.Source = "it has run on, and is as it was"
	return nil
}

// isBack fails where a machine that is off would start from an image that covers its disk: only while it runs can its host write that down.
func (w *work) isBack(m host.Machine, d plan.LiveDisk) error {
	is, err := describe(m)
	if err == nil && slotOf(is, machine.Disk{File: d.WasFile}) == "" {
		err = inUse(
			fmt.Sprintf(
				"%s is off, and what its guest wrote last lies in images on its old disks: start it, so that it can be written down.",
				w.m.Here(),
			),
		)
	}
	return err
}

// mergeInto has the guest go on from a file, with what lies above it written down into that.
func (w *work) mergeInto(ctx context.Context, on step.Guests, m host.Machine, d plan.LiveDisk, file string) error {
	files, err := w.layers(ctx, on, m, d)
	if err != nil || files[0] == file {
		return err
	}
	err = w.halting(ctx, func() (time.Duration, error) { return on.Merge(ctx, m, d.Slot, file) })
	if err == nil {
		files, err = w.layers(ctx, on, m, d)
	}
	if err == nil && files[0] != file {
		err = fmt.Errorf("it is stored in %s", files[0])
	}
	if err != nil {
		return fmt.Errorf("having %s write down into %s what was written meanwhile: %w", w.m.Host, file, err)
	}
	return nil
}

// halting does what may halt the guest for a moment. Where that is interrupted, goesOn lets it go on.
func (w *work) halting(ctx context.Context, do func() (time.Duration, error)) error {
	w.state.Halting = true
	if err := w.Keep(ctx); err != nil {
		return err
	}
	halted, err := do()
	w.stood(halted)
	if err == nil {
		w.state.Halting = false
	}
	return err
}

// goesOnThere is the machine in its new place, whose guest goes on likewise.
func (w *work) goesOnThere(ctx context.Context) (host.Machine, error) {
	if !w.m.Away() && !w.m.First {
		return w.goesOn(ctx)
	}
	m, err := w.there(ctx)
	if err != nil || !w.state.Halting || m.State != host.Suspended {
		return m, err
	}
	if err := w.Ends.To.Resume(ctx, m); err != nil {
		return m, fmt.Errorf("letting %s go on: %w", w.m.There(), err)
	}
	return w.there(ctx)
}

// goesOn is the machine, whose guest goes on where an interrupted job has halted it.
func (w *work) goesOn(ctx context.Context) (host.Machine, error) {
	m, err := w.source(ctx)
	if err != nil || !w.state.Halting || m.State != host.Suspended {
		return m, err
	}
	if err := w.Ends.From.Resume(ctx, m); err != nil {
		return m, fmt.Errorf("letting %s go on: %w", w.m.Here(), err)
	}
	return w.source(ctx)
}

// mirror has the guest go on from images on the new disks, which have all that it wrote meanwhile.
func (w *work) mirror(ctx context.Context) error {
	return w.goOver(ctx, func(d plan.LiveDisk) (from, to string, at, on plan.Place, form, onFile string) {
		return d.CoverAt, d.TopAt, d.Top, d.Now, d.Format, d.NowFile
	})
}

// mirrorBack has it go on from images on the old disks again.
func (w *work) mirrorBack(ctx context.Context) error {
	m, err := w.goesOn(ctx)
	if err != nil || m.State == host.Off {
		return err // how to go on from there is said behind that
	}
	return w.goOver(ctx, func(d plan.LiveDisk) (from, to string, at, on plan.Place, form, onFile string) {
		return d.TopAt, d.ReturnAt, d.Returned, d.Was, d.OldForm, d.WasFile
	})
}

// goOver mirrors the topmost image of each disk that is one to another one.
func (w *work) goOver(
	ctx context.Context, over func(plan.LiveDisk) (from, to string, at, on plan.Place, form, onFile string),
) error {
	m, err := w.goesOnThere(ctx)
	if err != nil {
		return err
	}
	if m.State == host.Off {
		return inUse(
			fmt.Sprintf("%s is off by now, and what its guest wrote last lies in images on its disks: start it, then go on.", w.m.There()),
		)
	}
	for _, d := range w.m.Live {
		from, to, at, on, form, onFile := over(d)
		if err := w.Ends.To.GiveUp(ctx, m, d.Slot); err != nil { // what an earlier time began
			return fmt.Errorf("giving up to mirror the disk %s: %w", d.Slot, err)
		}
		files, err := w.layers(ctx, w.Ends.To, m, d)
		if err != nil {
			return err
		}
		if files[0] != from {
			continue // an earlier time did it, or there is nothing to be done
		}
		// One that an earlier time made stays: its host may be about to use it, and all that is in it is written again.
		if !w.standsOn(ctx, at, on) {
			if err := w.layer(ctx, at, on, form, onFile); err != nil {
				return err
			}
		}
		err = w.halting(ctx, func() (time.Duration, error) {
			return w.Ends.To.Mirror(ctx, m, d.Slot, machine.Disk{File: to, Format: "qcow2"})
		})
		if err != nil {
			return fmt.Errorf("mirroring the disk %s to %s: %w", d.Slot, at, err)
		}
	}
	return nil
}

// merge writes down into the new disks what was written meanwhile, and removes what belongs to nobody then.
func (w *work) merge(ctx context.Context) error {
	m, err := w.goesOnThere(ctx)
	if err != nil {
		return err
	}
	for _, d := range w.m.Live {
		if err := w.mergeInto(ctx, w.Ends.To, m, d, d.NowFile); err != nil {
			return err
		}
		for _, at := range []plan.Place{d.Top, d.Returned} {
			if err := w.unmake(at); err != nil {
				return err
			}
		}
	}
	if w.m.Away() { // what its old host has is removed when that does not know it any more
		return w.dropPasses(ctx)
	}
	if err := w.dropCovers(); err != nil {
		return err
	}
	w.evidence("%s has mirrored what was written since, and its guest goes on from the new disks", w.m.To)
	if w.m.First {
		return w.Ends.Lender.Return(ctx, w.ID)
	}
	return nil
}

// layer makes an image that stands on another one and has nothing of its own, for the host to write to. One of an earlier time is made anew: nobody has written to it.
func (w *work) layer(ctx context.Context, at, on plan.Place, form, onFile string) error {
	if err := w.unmake(at); err != nil {
		return err
	}
	base, err := disk.Open(ctx, w.Ends.Pools[on.Pool], on.Path, form)
	if err != nil {
		return fmt.Errorf("opening %s: %w", on, err)
	}
	defer base.Close()
	made, err := w.overlayOn(w.Ends.Pools[at.Pool], at, base, onFile)
	if err == nil {
		err = errors.Join(made.Commit(ctx), made.Close())
	}
	if err != nil {
		return fmt.Errorf("making %s: %w", at, err)
	}
	return w.alike(at, on)
}

// standsOn tells whether an image is there, whole, and stands on another one of its pool.
func (w *work) standsOn(ctx context.Context, at, on plan.Place) bool {
	r, err := disk.Open(ctx, w.Ends.Pools[at.Pool], at.Path, "qcow2")
	if err != nil {
		return false
	}
	defer r.Close()
	c, ok := r.(disk.Checker)
	chain := r.Describe().Chain
	return ok && len(chain) > 0 && chain[0] == on.Path && c.Check(ctx) == nil
}

// layerBeside does so in the pool of what the image stands on, which it names as seen from itself.
func (w *work) layerBeside(ctx context.Context, at, on plan.Place, form string) error {
	name, err := filepath.Rel(path.Dir(at.Path), on.Path)
	if err != nil {
		return err
	}
	return w.layer(ctx, at, on, form, name)
}

// overlay is an image being made that stands on another one in its pool, which it names as seen from itself.
func (w *work) overlay(folder storage.Folder, at, on plan.Place, base disk.Reader) (disk.Writer, error) {
	name, err := filepath.Rel(path.Dir(at.Path), on.Path)
	if err != nil {
		return nil, err
	}
	return w.overlayOn(folder, at, base, name)
}

func (w *work) overlayOn(folder storage.Folder, at plan.Place, base disk.Reader, name string) (disk.Writer, error) {
	qcow2, err := disk.Lookup("qcow2")
	if err != nil {
		return nil, err
	}
	return qcow2.Create(disk.Target{
		Folder: folder, Name: at.Path, Size: base.Size(), Layout: "overlay", Base: base, BaseName: name, Created: w.state.Frozen,
	})
}

// alike gives an image to who has another one.
func (w *work) alike(at, as plan.Place) error {
	info, err := w.Ends.Pools[as.Pool].Stat(as.Path)
	if err != nil {
		return err
	}
	if o, ok := storage.As[storage.Owner](w.Ends.Pools[at.Pool]); ok && info.Owner != "" {
		if err := o.Own(at.Path, info.Owner, info.Mode); err != nil {
			return fmt.Errorf("giving %s to who has %s: %w", at, as, err)
		}
	}
	return nil
}

// unmake removes an image of the job's own.
func (w *work) unmake(at plan.Place) error {
	if err := w.Ends.Pools[at.Pool].Remove(at.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("removing %s: %w", at, err)
	}
	return nil
}
