package machines

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"sync/atomic"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"golang.org/x/sync/errgroup"
)

// What a machine has in memory goes along in a file, which its old host writes and its new one reads. A guest goes on from such a file once: what it has written since
// would not fit. So a file gets another name before it is used, by which nobody uses it again.

// save has the old host write what the machine has in memory to a file, and switch it off. One that is off already has nothing in memory.
func (w *work) save(ctx context.Context, m host.Machine) error {
	if m.State == host.Off && !w.state.Saving {
		w.evidence("%s was off by then: nothing was in memory, and it is started anew", w.m.Here())
		return nil
	}
	w.state.Saving, w.state.Receipt.WasRunning = true, true
	if err := w.Keep(ctx); err != nil {
		return err
	}
	begun := time.Now()
	err := w.Ends.From.Save(ctx, m, w.m.Memory.WasFile)
	if err != nil && !errors.Is(err, host.ErrGone) {
		if now, lookErr := w.source(ctx); lookErr == nil && now.State == host.Off { // somebody else switched it off
			w.evidence("%s was switched off while it was being suspended: what it had in memory is lost, and it is started anew", w.m.Here())
			return nil
		}
	}
	if err != nil {
		return fmt.Errorf("having %s write what %s has in memory: %w", w.m.Host, w.m.Name, err)
	}
	if w.state.SavedWith, _, err = w.lookAt(w.written()); err != nil {
		return err
	}
	w.state.Saved = true
	w.evidence("what it had in memory was written to a file in %s", time.Since(begun).Round(time.Millisecond))
	return nil
}

// written are the images on its old disks that its guest wrote to last.
func (w *work) written() (all []plan.Place) {
	for _, d := range w.m.Live {
		all = append(all, w.topmost(d))
	}
	return all
}

// fits tells whether what it had in memory is what its guest goes on from: nothing was written to its old disks since. Somebody may have started it anew, and shut it down again.
func (w *work) fits() (bool, error) {
	if !w.state.Saved {
		return false, nil
	}
	now, _, err := w.lookAt(w.written())
	if err != nil || maps.Equal(now, w.state.SavedWith) {
		return err == nil, err
	}
	w.state.Saved = false
	w.evidence(
		"somebody started %s after it was suspended: what it had in memory then does not fit to its disks any more, and is left",
		w.m.Here(),
	)
	return false, nil
}

// carryMemory copies the file with the memory, and compares it with what is read back.
func (w *work) carryMemory(ctx context.Context) error {
	if fits, err := w.fits(); err != nil || !fits {
		return err
	}
	from, to := w.m.Memory.Was, w.m.Memory.Now
	if err := w.unmake(to); err != nil {
		return err
	}
	begun := time.Now()
	in, err := w.Ends.Pools[from.Pool].Open(from.Path)
	if err != nil {
		return err
	}
	n, err := w.copyMemory(ctx, in, to)
	if err = errors.Join(err, in.Close()); err != nil {
		return fmt.Errorf("copying what it has in memory to %s: %w", to, err)
	}
	w.evidence("that was copied, %s, and compared, in %s", plan.Bytes(n), time.Since(begun).Round(time.Millisecond))
	return w.alike(to, w.m.Live[0].Now)
}

const (
	// memoryBlock is how much of a memory is read at once, in bytes, and memoryWorkers how many blocks are on their way.
	memoryBlock   = 4 << 20
	memoryWorkers = 4
)

// copyMemory copies a file, and compares each block with what is read back right behind that: the guest stands still meanwhile.
func (w *work) copyMemory(ctx context.Context, in storage.File, to plan.Place) (n int64, err error) {
	if n, err = in.Size(); err != nil {
		return 0, err
	}
	folder := w.Ends.Pools[to.Pool]
	out, err := folder.Create(to.Path)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if f, ok := storage.As[storage.Freshener](folder); ok {
		folder = f.Fresh()
	}
	back, err := folder.Open(to.Path)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, back.Close()) }()
	var next atomic.Int64
	workers, ctx := errgroup.WithContext(ctx)
	for range memoryWorkers {
		workers.Go(func() error {
			was, now := make([]byte, memoryBlock), make([]byte, memoryBlock)
			for {
				off := next.Add(memoryBlock) - memoryBlock
				if off >= n || ctx.Err() != nil {
					return ctx.Err()
				}
				was, now = was[:min(memoryBlock, n-off)], now[:min(memoryBlock, n-off)]
				err := disk.ReadFull(in, was, off)
				if err == nil {
					_, err = out.WriteAt(was, off)
				}
				if err == nil {
					err = disk.ReadFull(back, now, off)
				}
				if err == nil && !bytes.Equal(was, now) {
					err = fmt.Errorf("%w: at offset %d it is not what the machine had in memory", step.ErrNotProven, off)
				}
				if err != nil {
					return err
				}
			}
		})
	}
	return n, workers.Wait()
}

// goOnFrom has a machine that is off, whose guest writes to those images, go on from a file with what it had in memory, once. It tells whether there is one from which it may.
func (w *work) goOnFrom(
	ctx context.Context, on step.Guests, m host.Machine, at plan.Place, file string, writes func(plan.LiveDisk) plan.Place,
) (found bool, err error) {
	var all []plan.Place
	for _, d := range w.m.Live {
		all = append(all, writes(d))
	}
	now, sure, err := w.lookAt(all)
	if err != nil {
		return false, err
	}
	folder := w.Ends.Pools[at.Pool]
	_, err = folder.Stat(at.Path)
	switch {
	case err == nil:
		w.state.Untouched = now
		err = errors.Join(w.Keep(ctx), folder.Rename(at.Path, at.Path+plan.MemoryUsed), folder.Sync(path.Dir(at.Path)))
	case errors.Is(err, fs.ErrNotExist) && sure && maps.Equal(now, w.state.Untouched): // an earlier time came so far, and no guest has written since
		_, err = folder.Stat(at.Path + plan.MemoryUsed)
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	}
	if err != nil {
		return true, fmt.Errorf("taking %s for use: %w", at, err)
	}
	is, err := describe(m)
	if err != nil {
		return true, err
	}
	if err := on.Restore(ctx, m, file+plan.MemoryUsed, is); err != nil {
		return true, fmt.Errorf("having %s go on from what it had in memory: %w", m.Name, err)
	}
	return true, nil
}

// startFromMemory has the machine go on in its new place from what it had in memory.
func (w *work) startFromMemory(ctx context.Context, m host.Machine) error {
	found, err := w.goOnFrom(ctx, w.Ends.To, m, w.m.Memory.Now, w.m.Memory.NowFile, func(d plan.LiveDisk) plan.Place { return d.Top })
	if err == nil && !found {
		err = fmt.Errorf("%w: it was to go on from what it had in memory, and is off: its guest may have gone on from there already", errNotUp)
	}
	return err
}

// tellMemory tells whether the machine that is on in its new place went on from what it had in memory: somebody else may have started it there before.
func (w *work) tellMemory() error {
	if !w.state.Saved {
		return nil
	}
	at := w.m.Memory.Now
	_, err := w.Ends.Pools[at.Pool].Stat(at.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist): // it was taken for use
		w.evidence("it went on from what it had in memory")
		return nil
	case err == nil:
		w.evidence("somebody had started %s before it could go on from what it had in memory, which is lost", w.m.There())
	}
	return err
}

// dropMemory removes the files with what it had in memory at one place.
func (w *work) dropMemory(at func(plan.MemoryFile) plan.Place) error {
	if w.m.Memory == nil {
		return nil
	}
	place := at(*w.m.Memory)
	again := place
	again.Path += plan.MemoryUsed
	return errors.Join(w.unmake(place), w.unmake(again))
}

func wasMemory(m plan.MemoryFile) plan.Place { return m.Was }

func nowMemory(m plan.MemoryFile) plan.Place { return m.Now }
