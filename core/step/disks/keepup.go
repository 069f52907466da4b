package disks

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/transfer"

	"github.com/dustin/go-humanize/english"
)

// errPast is the error for a disk that somebody writes to while its filesystems are frozen.
var errPast = errors.New("somebody writes to the disk past its filesystems, which were frozen: end what does that, and start again")

// teller is a folder of disks that tells what is written to them.
type teller interface {
	freezer
	Changes(ctx context.Context, name string) (*blocks.Changes, error)
}

// living is a disk that is read while somebody writes to it.
type living struct {
	on      teller
	changes *blocks.Changes
	whole   bool // where it was written to is not known: all is read again
	passes  int
}

const (
	// mostCaughtUp bounds how often what was written to meanwhile is read again, before the filesystems are frozen.
	mostCaughtUp = 8
	// soon is what a pass takes when little is left, and shrinking by how much each is to be shorter than the one before.
	soon      = 500 * time.Millisecond
	shrinking = 0.7
)

// errFaster is the error for a disk that more is written to than can be copied.
var errFaster = errors.New(
	"more is written to the disk than can be copied meanwhile: let its filesystems be frozen for longer, or all the while",
)

// keepUp begins to hear what is written to the source. Its filesystems are frozen for a moment, since that has to go at the end: what they use is looked at then,
// and that map holds with what is heard from then on.
func (w *work) keepUp(ctx context.Context) (f *living, err error) {
	on, ok := storage.As[teller](w.unheeded)
	if !ok {
		return nil, fmt.Errorf("hearing what is written to %s: %w", w.disk.Request.Source, errors.ErrUnsupported)
	}
	f = &living{on: on, whole: w.Log.IsAt(plan.StepFill)} // what was written while nobody listened
	if f.changes, err = on.Changes(ctx, w.disk.Request.Source.Path); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.changes.Close())
		}
	}()
	_, thaw, err := on.Freeze(ctx, w.disk.Request.Source.Path, w.disk.Request.Freezes(), "")
	if err != nil {
		return nil, err
	}
	if old := w.src; w.disk.Request.UsedOnly {
		if err = w.openCarried(ctx); err == nil {
			err = old.Close()
		}
	}
	if thaw != nil {
		err = errors.Join(err, thaw())
	}
	return f, err
}

// catchUp copies what was written to meanwhile, until little is left, and the last of it while the filesystems are frozen.
func (w *work) catchUp(ctx context.Context, f *living, src disk.Reader, dst disk.Writer, copied transfer.Result) (transfer.Result, error) {
	longest := w.disk.Request.Freezes()
	var took time.Duration
	for before := time.Duration(math.MaxInt64); f.passes < mostCaughtUp; before = took {
		began := time.Now()
		var err error
		if copied, err = w.pass(ctx, f, src, dst, copied); err != nil {
			return copied, err
		}
		took = time.Since(began)
		if f.passes++; took < soon || took.Seconds() > before.Seconds()*shrinking {
			break
		}
	}
	if took > longest/2 {
		return copied, fmt.Errorf(
			"%w; the last pass took %.0f s, and they may be frozen for %.0f s",
			errFaster,
			took.Seconds(),
			longest.Seconds(),
		)
	}
	_, thaw, err := f.on.Freeze(ctx, w.disk.Request.Source.Path, longest, w.disk.Request.Tell)
	if err != nil {
		return copied, err
	}
	w.thaw, w.state.LetGo = thaw, true
	began := time.Now()
	if w.state.Source, err = w.source.look(); err != nil {
		return copied, err
	}
	if copied, err = w.pass(ctx, f, src, dst, copied); err != nil {
		return copied, err
	}
	switch now, err := w.source.look(); {
	case err != nil:
		return copied, err
	case now != w.state.Source:
		return copied, errPast
	}
	held := time.Since(began)
	if w.thaw != nil {
		thaw := w.thaw
		w.thaw = nil
		if err := thaw(); err != nil {
			return copied, err
		}
		w.remark(fmt.Sprintf(
			"it was written to while it was read: what was written meanwhile was copied in %s, and the last of it while its filesystems were frozen, for %.2f s",
			english.Plural(f.passes, "pass", "passes"),
			held.Seconds(),
		))
	}
	return copied, nil
}

// pass copies what was written to since the last one.
func (w *work) pass(ctx context.Context, f *living, src disk.Reader, dst disk.Writer, copied transfer.Result) (transfer.Result, error) {
	written, known, err := f.changes.Take(ctx)
	if err != nil {
		return copied, err
	}
	if known && !f.whole && len(written) == 0 {
		return copied, nil
	}
	now, err := w.disk.Request.Source.Origin(w.Ends.Source).Open(ctx, w.disk.Before.Format) // past what its system remembers
	if err != nil {
		return copied, err
	}
	t := transfer.Transfer{Source: inspect.Anew(src, now), Destination: dst, Known: copied.Leaves, Only: inside(written, src.Size())}
	if f.whole || !known {
		t.Only = nil
	}
	f.whole = false
	again, err := w.transfer(ctx, plan.StepFill, t)
	if again.Tail == nil {
		again.Tail = copied.Tail
	}
	again.Damaged = transfer.Join(copied.Damaged, again.Damaged...)
	return again, errors.Join(err, now.Close())
}

// inside are ranges of leaves as far as a disk reaches.
func inside(ranges []fingerprint.Range, size int64) (out []fingerprint.Range) {
	out = []fingerprint.Range{}
	for _, r := range ranges {
		if r.Offset < size {
			out = append(out, fingerprint.Range{Offset: r.Offset, Length: min(r.Length, size-r.Offset)})
		}
	}
	return out
}
