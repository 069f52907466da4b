package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
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

// mostLayers bounds how many images lie one on the other, in the new place and on the old disk.
const mostLayers = 8

// passes copies what was written meanwhile, until what is left fits into the stop.
func (w *work) passes(ctx context.Context) error {
	if w.m.KeepEvery > 0 && !w.state.Going {
		if err := w.keepUp(ctx); err != nil || w.state.Without {
			return err
		}
	}
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
		takes := w.begins(left)
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

// begins notes that a pass begins, and returns how long what is left takes to copy.
func (w *work) begins(left int64) time.Duration {
	takes := time.Duration(float64(left)/max(w.state.Speed, 1<<20)) * time.Second
	p := step.Pass{At: time.Now(), Left: left, Seconds: takes.Seconds()}
	if since := time.Since(w.state.as()).Seconds(); since > 0 {
		p.Rate = float64(left) / since
	}
	w.report.Pass(w.m.LongestStop, p)
	w.state.Course = w.report.Passes()
	return takes
}

// unread is how much the images have that are not copied yet, in bytes: the newest ones, and those over them of a pass that was cut off.
func (w *work) unread() (n int64, err error) {
	for _, d := range w.m.Live {
		for more := range 2 {
			cover, _, _ := d.Pass(w.state.Passes + more)
			info, err := w.Ends.Pools[cover.Pool].Stat(cover.Path)
			if errors.Is(err, fs.ErrNotExist) && more > 0 {
				continue
			}
			if err != nil {
				return 0, err
			}
			n += info.Taken()
		}
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
		w.state.Covered = time.Now()
		if err := w.Keep(ctx); err != nil { // whoever goes on copies what there was now, however late that is
			return err
		}
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
	if w.joins(w.state.Passes) {
		w.state.Base = w.state.Passes
	}
	w.state.Passes, w.state.Carried, w.state.Copied = w.state.Passes+1, w.state.Carried+n, w.state.Covered
	if took := time.Since(begun).Seconds(); took > 0 && n > 0 {
		w.state.Speed = float64(n) / took
	}
	if err := w.Keep(ctx); err != nil {
		return err
	}
	return w.tidy(ctx, m)
}

// joins tells whether what is copied in a pass is joined with all that was copied before, into one image on the new disk.
func (w *work) joins(n int) bool { return n-w.state.Base >= mostLayers }

// tidy removes what was joined: images of earlier passes in the new place, and those on the old disk, which its host writes down into the first one. The old disk itself
// stands still.
func (w *work) tidy(ctx context.Context, m host.Machine) error {
	if w.state.Folded >= w.state.Base {
		return nil
	}
	for _, d := range w.m.Live {
		for n := range w.state.Base {
			_, _, copied := d.Pass(n)
			if err := w.unmake(copied); err != nil {
				return err
			}
		}
		_, into, _ := d.Pass(0)
		_, from, _ := d.Pass(w.state.Base)
		if err := w.Ends.From.Fold(ctx, m, d.Slot, from, into); err != nil {
			return fmt.Errorf("having %s write down what was written to the disk %s earlier: %w", w.m.Host, d.Slot, err)
		}
		for n := w.state.Folded + 1; n <= w.state.Base; n++ {
			cover, _, _ := d.Pass(n)
			if err := w.unmake(cover); err != nil {
				return err
			}
		}
	}
	w.state.Folded = w.state.Base
	return w.Keep(ctx)
}

// covers are the images that a guest wrote to meanwhile, as they are there, the lowest first.
func (w *work) covers(d plan.LiveDisk) (all []plan.Place) {
	first, _, _ := d.Pass(0)
	all = append(all, first)
	for n := w.state.Folded + 1; n <= w.state.Passes; n++ {
		cover, _, _ := d.Pass(n)
		all = append(all, cover)
	}
	return all
}

// topmost is the image on its old disk that its guest wrote to last.
func (w *work) topmost(d plan.LiveDisk) plan.Place {
	cover, _, _ := d.Pass(w.state.Passes)
	return cover
}

// last copies what was written last, of the machine that is off.
func (w *work) last(ctx context.Context) error {
	if err := w.isOff(ctx); err != nil {
		return err
	}
	if w.state.Without {
		return w.topOff(ctx)
	}
	var err error
	if w.state.Last, err = w.looks(); err != nil { // before anything of it is read
		return err
	}
	n, err := w.copyPass(ctx, w.state.Passes, func(d plan.LiveDisk) plan.Place { return d.Top })
	if err == nil {
		err = w.carryMemory(ctx)
	}
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
		var before []plan.Place // the newest first
		for i := n - 1; i >= w.state.Base; i-- {
			_, _, copied := d.Pass(i)
			before = append(before, copied)
		}
		if len(before) > 0 && !w.joins(n) {
			on, form, before = before[0], "qcow2", nil
		}
		one, err := w.copyLayer(ctx, cover, into(d), on, form, before)
		if copied += one; err != nil {
			return copied, fmt.Errorf("copying what was written to the disk %s: %w", d.Slot, err)
		}
	}
	return copied, nil
}

// copyLayer copies what an image has of its own into one that stands on another one, which is made anew, with what the images have that were copied before, if any, and
// compares both as they are with all below them.
func (w *work) copyLayer(ctx context.Context, from, into, on plan.Place, form string, before []plan.Place) (n int64, err error) {
	var parts []written
	defer func() {
		for _, p := range parts {
			err = errors.Join(err, p.content.Close())
		}
	}()
	for _, at := range append([]plan.Place{from}, before...) {
		p, err := w.openWritten(ctx, at)
		if err != nil {
			return 0, err
		}
		parts = append(parts, p)
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
	n, changed, err := copyWritten(ctx, parts, made)
	if err == nil {
		err = made.Commit(ctx)
	}
	if err = errors.Join(err, made.Close()); err != nil {
		return n, err
	}
	if err := w.alike(into, on); err != nil {
		return n, err
	}
	return n, w.same(ctx, parts[0].content.Size(), into, changed)
}

// written is an image of which only what it has of its own is copied.
type written struct {
	own     disk.Locator
	content disk.Reader // with all below it
}

func (w *work) openWritten(ctx context.Context, at plan.Place) (p written, err error) {
	if p.content, err = disk.Open(ctx, w.Ends.Pools[at.Pool], at.Path, "qcow2"); err != nil {
		return p, err
	}
	own, ok := p.content.(disk.Locator)
	if p.own = own; !ok {
		err = errors.Join(fmt.Errorf("what %s has of its own: %w", at, errors.ErrUnsupported), p.content.Close())
	}
	return p, err
}

// copyWritten copies what images have of their own, the newest first, and tells how much the first one had, and with what each MiB is to be compared that was written to.
func copyWritten(ctx context.Context, parts []written, made disk.Writer) (n int64, changed map[int64]disk.Reader, err error) {
	changed, buffer := map[int64]disk.Reader{}, make([]byte, unit)
	for off, size := int64(0), parts[0].content.Size(); off < size; {
		if err := ctx.Err(); err != nil {
			return n, nil, err
		}
		length, hole := size-off, true
		var of int
		for i, p := range parts {
			at, err := p.own.Locate(off)
			if err != nil {
				return n, nil, err
			}
			if length = min(length, at.Len); at.Kind != disk.Hole {
				hole, of = false, i
				break
			}
		}
		if hole {
			off += length
			continue
		}
		length = min(length, unit)
		if err := disk.ReadFull(parts[of].content, buffer[:length], off); err != nil {
			return n, nil, err
		}
		if _, err := made.WriteAt(buffer[:length], off); err != nil {
			return n, nil, err
		}
		for mib := off / unit; mib <= (off+length-1)/unit; mib++ {
			if of == 0 || changed[mib] == nil {
				changed[mib] = parts[min(of, 1)].content // the second one stands on those behind it
			}
		}
		if of == 0 {
			n += length
		}
		off += length
	}
	return n, changed, nil
}

// same reads back from storage what was copied, of a disk of a size, and compares each MiB with its source.
func (w *work) same(ctx context.Context, size int64, into plan.Place, changed map[int64]disk.Reader) error {
	folder := w.Ends.Pools[into.Pool]
	if f, ok := storage.As[storage.Freshener](folder); ok {
		folder = f.Fresh()
	}
	back, err := disk.Open(ctx, folder, into.Path, "qcow2")
	if err != nil {
		return fmt.Errorf("opening what was made: %w", err)
	}
	defer back.Close()
	if back.Size() != size {
		return fmt.Errorf("%w: %s has %d bytes, and the disk %d", step.ErrNotProven, into, back.Size(), size)
	}
	p, q := make([]byte, unit), make([]byte, unit)
	for mib, src := range changed {
		if err := ctx.Err(); err != nil {
			return err
		}
		off := mib * unit
		length := min(unit, size-off)
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
	return w.dropMemory(nowMemory)
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
	return w.dropMemory(wasMemory)
}
