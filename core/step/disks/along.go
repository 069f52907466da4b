package disks

import (
	"context"
	"errors"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/transfer"
)

// along reads back what is on stable storage of an image while the rest of it is still being written, so that the proof costs less time of
// its own. What it has read counts once the finished image is known to look for everything in the same place; otherwise, and where anything
// goes wrong, the proof reads all of it again.
type along struct {
	work   *work
	dst    disk.Locator
	back   *disk.ReadBack
	leaves *fingerprint.Leaves
	meter  transfer.Meter
	stop   context.CancelFunc
	wake   chan struct{}
	group  sync.WaitGroup

	mu     sync.Mutex
	upTo   int64
	failed bool
}

// readAlong begins, or returns nil where it cannot be done: nothing is to be proven or to be read back, or the layout does not store what
// the guest sees.
func (w *work) readAlong(ctx context.Context, dst disk.Writer, target disk.Target) *along {
	l, ok := dst.(disk.Locator)
	if _, encodes := dst.(disk.Encoder); !ok || encodes || w.disk.Request.NoProof || w.disk.Sums {
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	a := &along{
		work: w, dst: l, back: disk.NewReadBack(l, target), leaves: fingerprint.NewLeaves(target.Size), stop: stop, wake: make(chan struct{}, 1),
		meter: transfer.Meter{Strip: transfer.NewStrip(target.Size)},
	}
	w.report.Proven = a.meter.Strip
	a.group.Go(func() { a.run(ctx) })
	return a
}

// reached tells that everything before an offset of the disk is on stable storage.
func (a *along) reached(off int64) {
	a.mu.Lock()
	a.upTo = min(off, a.back.Size())
	a.mu.Unlock()
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

// tell returns a function that gets marks, and passes them on to keep, which may be nil.
func (a *along) tell(keep func(transfer.Mark) error) func(transfer.Mark) error {
	return func(m transfer.Mark) error {
		if keep != nil {
			if err := keep(m); err != nil {
				return err
			}
		}
		a.reached(m.Leaves.Next() * fingerprint.LeafSize)
		return nil
	}
}

func (a *along) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-a.wake:
		}
		a.mu.Lock()
		end := a.upTo / fingerprint.LeafSize * fingerprint.LeafSize // the last leaf may be short: it is left for later
		a.mu.Unlock()
		if end <= a.leaves.Next()*fingerprint.LeafSize {
			continue
		}
		err := a.back.Forget()
		if err == nil {
			_, err = transfer.Transfer{Source: until{a.back, end}, Meter: &a.meter, Leaves: a.leaves, Wait: a.work.Wait}.Run(ctx)
		}
		if err != nil {
			a.failed = ctx.Err() == nil // when it was only stopped, what it has counts
			return
		}
	}
}

// until is a disk up to an offset.
type until struct {
	disk.Reader
	end int64
}

func (u until) Size() int64 { return u.end }

func (u until) Extent(off int64) (disk.Extent, error) {
	e, err := u.Reader.Extent(off)
	e.Len = min(e.Len, u.end-off)
	return e, err
}

// end stops, and returns the leaves that were read back; nil where they do not count.
func (a *along) end(ctx context.Context, complete bool) *fingerprint.Leaves {
	a.stop()
	a.group.Wait()
	defer a.back.Close()
	a.work.proof.BytesRead += a.meter.Read.Load()
	a.work.proof.Retries += a.meter.Retries.Load()
	if a.failed || !complete || a.leaves.Next() == 0 {
		a.work.report.Proven = nil
		return nil
	}
	made, err := a.work.carried().Made(ctx)
	if err == nil {
		l, ok := made.(disk.Locator)
		if !ok {
			err = errors.ErrUnsupported
		} else {
			err = disk.SamePlaces(ctx, a.dst, l, a.leaves.Next()*fingerprint.LeafSize)
		}
		err = errors.Join(err, made.Close())
	}
	if err != nil {
		a.work.report.Proven = nil
		return nil
	}
	a.work.proof.BytesCompared += a.meter.Read.Load()
	return a.leaves
}

// keepAlong keeps what was read back as the first mark of the proof.
func (w *work) keepAlong(ctx context.Context, leaves *fingerprint.Leaves) error {
	if leaves == nil {
		return w.enter(ctx, plan.StepProve)
	}
	b, err := transfer.Mark{Leaves: leaves}.AppendBinary(nil)
	if err != nil {
		return err
	}
	w.Log.Begun = w.Log.ID(plan.StepProve)
	return w.keep(ctx, b)
}
