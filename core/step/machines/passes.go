package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// A machine that goes to another host while it runs: whatever its guest writes lies in images one on the other, a pass each, of which all but the newest stand still. What
// such an image has of its own is exactly what was written in that pass; it is copied into an image that stands on the new disk, and each MiB of it is compared.

// unit is how much is compared at once, in bytes.
const unit = 1 << 20

// errNoFit is why a machine is not stopped.
var errNoFit = errors.New("its guest writes faster than that can be copied: what is left does not fit into the stop")

// Answers to the question what to do with a guest that writes too fast.
const answerNow = "now"

// passes copies what was written meanwhile, until what is left fits into the stop.
func (w *work) passes(ctx context.Context) error {
	answer := w.answered(plan.StepPasses)
	if answer == answerBack {
		return errNoFit
	}
	for n := 0; ; n++ {
		m, err := w.goesOn(ctx)
		if err != nil {
			return err
		}
		if m.State == host.Off {
			return nil // what is left is all
		}
		left, err := w.unread()
		if err != nil {
			return err
		}
		takes := time.Duration(float64(left)/max(w.state.Speed, 1<<20)) * time.Second
		if fits := takes <= time.Duration(w.m.LongestStop)*time.Second; fits && w.state.Passes > 0 || answer == answerNow {
			w.evidence("what was left when it was shut down was %s, copied in %s as far as can be told", plan.Bytes(left), takes.Round(time.Second))
			return nil
		}
		if n == plan.MostPasses {
			return w.ask(plan.StepPasses,
				fmt.Sprintf("%s were written in the last pass of %d, and would take %s to copy: longer than %d s. What is to be done?",
					plan.Bytes(left), w.state.Passes, takes.Round(time.Second), w.m.LongestStop),
				errNoFit,
				step.Choice{Name: answerAgain, Label: "Go on copying"},
				step.Choice{Name: answerNow, Label: "Stop it now, for as long as that takes"},
				step.Choice{Name: answerBack, Label: "Give up: it goes on where it is"},
			)
		}
		if err := w.pass(ctx, m); err != nil {
			return err
		}
	}
}

// unread is how much the newest images have, in bytes.
func (w *work) unread() (n int64, err error) {
	for _, d := range w.m.Live {
		cover, _, _ := d.Pass(w.state.Passes)
		info, err := w.Ends.Pools[cover.Pool].Stat(cover.Path)
		if err != nil {
			return 0, err
		}
		n += info.Taken()
	}
	return n, nil
}

// pass has the guest write to newer images, and copies what the ones below have.
func (w *work) pass(ctx context.Context, m host.Machine) error {
	on := map[string]string{}
	for _, d := range w.m.Live {
		old, oldAt, _ := d.Pass(w.state.Passes)
		next, nextAt, _ := d.Pass(w.state.Passes + 1)
		files, err := w.layers(ctx, w.Ends.From, m, d)
		if err != nil {
			return err
		}
		switch files[0] {
		case nextAt: // an earlier time did it
		case oldAt:
			if err := w.layer(ctx, next, old, "qcow2", oldAt); err != nil {
				return err
			}
			on[d.Slot] = nextAt
		default:
			return blocked("live", fmt.Sprintf("The disk %s of %s is stored in %s by now: plan it again.", d.Slot, w.m.Here(), files[0]))
		}
	}
	if len(on) > 0 {
		halted, err := w.Ends.From.Cover(ctx, m, on, false)
		w.stood(halted)
		if err != nil {
			return fmt.Errorf("having the guest of %s write to new images: %w", w.m.Here(), err)
		}
	}
	begun := time.Now()
	n, err := w.copyPass(ctx, w.state.Passes, func(d plan.LiveDisk) plan.Place { _, _, copied := d.Pass(w.state.Passes); return copied })
	if err != nil {
		return err
	}
	w.state.Passes, w.state.Carried = w.state.Passes+1, w.state.Carried+n
	if took := time.Since(begun).Seconds(); took > 0 && n > 0 {
		w.state.Speed = float64(n) / took
	}
	return w.Keep(ctx)
}

// last copies what was written last, of the machine that is off.
func (w *work) last(ctx context.Context) error {
	if err := w.isOff(ctx); err != nil {
		return err
	}
	var err error
	if w.state.Last, err = w.looks(); err != nil { // before anything of it is read
		return err
	}
	n, err := w.copyPass(ctx, w.state.Passes, func(d plan.LiveDisk) plan.Place { return d.Top })
	if err != nil {
		return err
	}
	w.evidence("what its guest wrote meanwhile was copied in %d passes, %s, and compared", w.state.Passes+1, plan.Bytes(w.state.Carried+n))
	return nil
}

// copyPass copies what the images of a pass have of their own into new ones, and compares it.
func (w *work) copyPass(ctx context.Context, n int, into func(plan.LiveDisk) plan.Place) (copied int64, err error) {
	for _, d := range w.m.Live {
		cover, _, _ := d.Pass(n)
		on, form := d.Now, d.Format
		if n > 0 {
			_, _, on = d.Pass(n - 1)
			form = "qcow2"
		}
		one, err := w.copyLayer(ctx, cover, into(d), on, form)
		if copied += one; err != nil {
			return copied, fmt.Errorf("copying what was written to the disk %s: %w", d.Slot, err)
		}
	}
	return copied, nil
}

// copyLayer copies what an image has of its own into one that stands on another one, which is made anew, and compares both as they are with all below them.
func (w *work) copyLayer(ctx context.Context, from, into, on plan.Place, form string) (n int64, err error) {
	src, err := disk.Open(ctx, w.Ends.Pools[from.Pool], from.Path, "qcow2")
	if err != nil {
		return 0, err
	}
	defer src.Close()
	own, ok := src.(disk.Locator)
	if !ok {
		return 0, fmt.Errorf("what %s has of its own: %w", from, errors.ErrUnsupported)
	}
	if err := w.unmake(into); err != nil {
		return 0, err
	}
	folder := w.Ends.Pools[into.Pool]
	base, err := disk.Open(ctx, folder, on.Path, form)
	if err != nil {
		return 0, err
	}
	defer base.Close()
	made, err := w.overlay(folder, into, on, base)
	if err != nil {
		return 0, err
	}
	changed := map[int64]bool{}
	buffer := make([]byte, unit)
	for off := int64(0); off < src.Size() && err == nil; {
		if err = ctx.Err(); err != nil {
			break
		}
		var at disk.Place
		if at, err = own.Locate(off); err != nil {
			break
		}
		length := min(at.Len, unit)
		if at.Kind != disk.Hole {
			part := buffer[:length]
			if err = disk.ReadFull(src, part, off); err == nil {
				_, err = made.WriteAt(part, off)
			}
			for mib := off / unit; mib <= (off+length-1)/unit; mib++ {
				changed[mib] = true
			}
			n += length
		} else {
			length = at.Len
		}
		off += length
	}
	if err == nil {
		err = made.Commit(ctx)
	}
	if err = errors.Join(err, made.Close()); err != nil {
		return n, err
	}
	if err := w.alike(into, on); err != nil {
		return n, err
	}
	return n, w.same(ctx, src, into, changed)
}

// same reads back from storage what was copied, and compares it with its source.
func (w *work) same(ctx context.Context, src disk.Reader, into plan.Place, changed map[int64]bool) error {
	folder := w.Ends.Pools[into.Pool]
	if f, ok := storage.As[storage.Freshener](folder); ok {
		folder = f.Fresh()
	}
	back, err := disk.Open(ctx, folder, into.Path, "qcow2")
	if err != nil {
		return fmt.Errorf("opening what was made: %w", err)
	}
	defer back.Close()
	if back.Size() != src.Size() {
		return fmt.Errorf("%w: %s has %d bytes, and the disk %d", step.ErrNotProven, into, back.Size(), src.Size())
	}
	p, q := make([]byte, unit), make([]byte, unit)
	for mib := range changed {
		if err := ctx.Err(); err != nil {
			return err
		}
		off := mib * unit
		length := min(unit, src.Size()-off)
		if err := errors.Join(disk.ReadFull(src, p[:length], off), disk.ReadFull(back, q[:length], off)); err != nil {
			return err
		}
		if !bytes.Equal(p[:length], q[:length]) {
			return fmt.Errorf("%w: what was copied to %s is not what was written, at offset %d", step.ErrNotProven, into, off)
		}
	}
	return nil
}

// dropPasses removes what was copied of passes.
func (w *work) dropPasses(context.Context) error {
	for _, d := range w.m.Live {
		for n := range w.state.Passes + 2 {
			_, _, copied := d.Pass(n)
			if err := w.unmake(copied); err != nil {
				return err
			}
		}
		if err := w.unmake(d.Top); err != nil {
			return err
		}
	}
	return nil
}

// dropCovers removes the images that a guest wrote to meanwhile, once nothing names them.
func (w *work) dropCovers() error {
	for _, d := range w.m.Live {
		for n := range w.state.Passes + 2 {
			cover, _, _ := d.Pass(n)
			if err := w.unmake(cover); err != nil {
				return err
			}
		}
	}
	return nil
}
