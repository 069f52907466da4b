package job

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"path"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// ErrSetAside is the cause to stop a task with that is to go on later: what it did stays.
var ErrSetAside = errors.New("set aside")

// State is how far a task is: the journal of its steps. With the marks of the step that goes on, it is enough to go on after the process
// has ended.
type State struct {
	Step       string    `json:"step"` // ID of the one that began last
	Done       []string  `json:"done"` // IDs of those that are done
	Source     string    `json:"source"`
	Base       string    `json:"base,omitempty"`
	Storage    string    `json:"storage"` // identity of the destination's
	Identifier [16]byte  `json:"identifier"`
	Created    time.Time `json:"created"`
	Files      []string  `json:"files"`
	// Compared tells that copied files were proven, before names in them were changed.
	Compared bool `json:"compared,omitempty"`
	// Staged are the identities that the files had in the staging folder, once they get their names.
	Staged map[string]string `json:"staged,omitempty"`
	// Fitting are the tags that fitted to their files before those got new names.
	Fitting []string `json:"fitting,omitempty"`
	// Released are the identities of the files of a source that was held, by the names that they had; nil where it stayed.
	Released map[string]string `json:"released,omitempty"`
	// Replaced tells that what lay in the place of the new image is held.
	Replaced bool `json:"replaced,omitempty"`
	// LeftBehind tells that a machine names the disk where it was.
	LeftBehind bool    `json:"left_behind,omitempty"`
	Receipt    Receipt `json:"receipt"` // as far as it is known
}

// Records keep the state of one task on stable storage, until whoever runs it has noted how it ended.
type Records interface {
	// Load returns what was kept last, or nil.
	Load(context.Context) (*State, error)
	// Keep keeps the state, and with it one more mark of its step, unless that is nil.
	Keep(ctx context.Context, s State, mark []byte) error
	// Marks are those that were kept for a step, in their order.
	Marks(ctx context.Context, step string) iter.Seq2[[]byte, error]
	// Forget drops state and marks, for the task to begin anew.
	Forget(context.Context) error
}

// none are the records of a task that does not outlive its process.
type none struct{}

func (none) Load(context.Context) (*State, error)      { return nil, nil }
func (none) Keep(context.Context, State, []byte) error { return nil }
func (none) Forget(context.Context) error              { return nil }
func (none) Marks(context.Context, string) iter.Seq2[[]byte, error] {
	return func(func([]byte, error) bool) {}
}

// keep keeps the state with the receipt as it is now.
func (w *work) keep(ctx context.Context, mark []byte) error {
	w.state.Receipt = w.receipt
	if err := w.Records.Keep(context.WithoutCancel(ctx), w.state, mark); err != nil {
		return fmt.Errorf("keeping how far the job is: %w", err)
	}
	return nil
}

// enter keeps that a step of a kind begins.
func (w *work) enter(ctx context.Context, kind string) error {
	w.state.Step = w.step(kind)
	return w.keep(ctx, nil)
}

// keeper returns what a transfer calls with its marks, or nil where none are kept.
func (w *work) keeper(ctx context.Context, meter *transfer.Meter, count func(*Receipt, *transfer.Meter)) func(transfer.Mark) error {
	if _, ok := w.Records.(none); ok {
		return nil
	}
	before := w.receipt
	return func(m transfer.Mark) error {
		b, err := m.AppendBinary(nil)
		if err != nil {
			return err
		}
		s := w.state
		s.Receipt = before
		count(&s.Receipt, meter)
		if err := w.Records.Keep(context.WithoutCancel(ctx), s, b); err != nil {
			return fmt.Errorf("keeping how far the job is: %w", err)
		}
		return nil
	}
}

// recall reads the marks of a step. each, unless it is nil, gets what was written.
func (w *work) recall(ctx context.Context, step string, size int64, each func(disk.Written) bool) (transfer.Result, error) {
	r := transfer.Result{Leaves: fingerprint.NewLeaves(size)}
	for b, err := range w.Records.Marks(ctx, step) {
		if err != nil {
			return r, fmt.Errorf("reading how far the job was: %w", err)
		}
		m, err := transfer.ReadMark(b, r.Leaves)
		if err != nil {
			return r, err
		}
		r.Damaged = transfer.Join(r.Damaged, m.Damaged...)
		if m.Tail != nil {
			r.Tail = m.Tail
		}
		for _, x := range m.Written {
			if each != nil && !each(x) {
				return r, nil
			}
		}
	}
	return r, nil
}

// recallState tells whether an earlier time had proven the new image and was giving its names: for that nothing is needed of the source
// any more, which may have changed or gone.
func (w *work) recallState(ctx context.Context) (bool, error) {
	old, err := w.Records.Load(ctx)
	if err != nil || old == nil || old.Staged == nil {
		return false, err
	}
	w.state = *old
	if w.isAt(plan.StepPublish) {
		if there, err := w.isThere(); err != nil || !there {
			return false, err
		}
	}
	w.receipt = old.Receipt
	w.receipt.Resumed++
	return true, nil
}

// takeUp finds what an earlier time left, and drops it where it is of no use any more.
func (w *work) takeUp(ctx context.Context, source, base string) error {
	old, err := w.Records.Load(ctx)
	if err != nil {
		return fmt.Errorf("looking for what an earlier time left: %w", err)
	}
	if old != nil {
		switch {
		case old.Source != source:
			w.remark("it was begun anew since the source had changed")
		case old.Base != base:
			w.remark("it was begun anew since the base had changed")
		default:
			w.state = *old
			there, err := w.isThere()
			if err != nil {
				return err
			}
			if there {
				w.receipt = old.Receipt
				w.receipt.Resumed++
				return nil
			}
			w.remark("it was begun anew since its files were gone from the staging folder")
		}
	}
	return w.beginAnew(ctx, source, base)
}

// isThere tells whether what an earlier time wrote is still there. It fails when the storage is another one than then: its drive was
// pulled, and what lies under its name now is not to be written to.
func (w *work) isThere() (bool, error) {
	space, err := w.Ends.Destination.Space()
	if err != nil {
		return false, destination(err)
	}
	dir := w.carried().Dir()
	there := true
	for _, name := range w.state.Files {
		_, err := w.Ends.Destination.Stat(path.Join(w.staging(), name))
		atCommit := w.isAt(plan.StepFill) // when some files are made
		placed := w.isAt(plan.StepPublish) && w.isPlaced(dir, name)
		there = there && (err == nil || atCommit || placed)
	}
	if _, err := w.Ends.Destination.Stat(w.staging()); err != nil && w.isAt(plan.StepFill) {
		there = false
	}
	if !there && space.ID != w.state.Storage {
		return false, destination(
			fmt.Errorf("%w: the destination is not on the storage that the job began on; connect its drive, and the job goes on", storage.ErrLost),
		)
	}
	return there, nil
}

// beginAnew drops what an earlier time left.
func (w *work) beginAnew(ctx context.Context, source, base string) error {
	if err := destination(w.clear()); err != nil {
		return err
	}
	if err := w.Records.Forget(ctx); err != nil {
		return err
	}
	space, err := w.Ends.Destination.Space()
	if err != nil {
		return destination(err)
	}
	w.state = State{Source: source, Base: base, Storage: space.ID}
	return nil
}

// doubt notes what is known against the content of the source.
func (w *work) doubt(text string) {
	if !slices.Contains(w.receipt.Doubts, text) {
		w.receipt.Doubts = append(w.receipt.Doubts, text)
	}
}

func (w *work) remark(text string) { w.receipt.Remarks = append(w.receipt.Remarks, text) }
