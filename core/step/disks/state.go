package disks

import (
	"context"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// State is what the work on a disk has to know to go on.
type State struct {
	Source     string    `json:"source"`
	Base       string    `json:"base,omitempty"`
	Parted     []parted  `json:"parted,omitempty"` // the source as it was when its content was looked at last
	Storage    string    `json:"storage"`          // identity of the destination's
	Identifier [16]byte  `json:"identifier"`
	Created    time.Time `json:"created"`
	Files      []string  `json:"files"`
	// Fitted tells that filesystems were made to fit, and lie in the scratch folder.
	Fitted bool `json:"fitted,omitempty"`
	// Adapted tells that a second image was made of the first one, with what its guest needs in its new place, and proven.
	Adapted bool `json:"adapted,omitempty"`
	// Salvaged tells that what can be read of a disk that fails was read.
	Salvaged bool `json:"salvaged,omitempty"`
	// Torn tells that somebody wrote to the source while it was read as it is.
	Torn bool `json:"torn,omitempty"`
	// LetGo tells that the source was frozen when the last of it was read, and goes on since.
	LetGo bool `json:"let_go,omitempty"`
	// Saved tells that what the disk held which is written over is saved.
	Saved bool `json:"saved,omitempty"`
	// Compared tells that copied files were proven, before names in them were changed.
	Compared bool `json:"compared,omitempty"`
	// Staged are the identities that the files had in the staging folder, once they get their names.
	Staged map[string]string `json:"staged,omitempty"`
	// Fitting are the tags that fitted to their files before those got new names.
	Fitting []string `json:"fitting,omitempty"`
	// Released are the identities of the files of a source that was held, by the names that they had; nil where it stayed.
	Released map[string]string `json:"released,omitempty"`
	// PastDamage tells that somebody has let it put zeros in the place of what cannot be read.
	PastDamage bool `json:"past_damage,omitempty"`
	// Replaced tells that what lay in the place of the new image is held.
	Replaced bool `json:"replaced,omitempty"`
	// LeftBehind tells that a machine names the disk where it was.
	LeftBehind bool `json:"left_behind,omitempty"`
	// Tree is the fingerprint of a folder that is carried as a whole, and Made what its copy looked like when that was proven.
	Tree    string          `json:"tree,omitempty"`
	Made    string          `json:"made,omitempty"`
	Receipt receipt.Receipt `json:"receipt"` // as far as it is known
}

// Load reads the state of the work on a disk out of a journal, and tells whether it is there.
func (s *State) Load(j *step.Journal, disk string) (bool, error) { return j.Open(disk, nil).Load(s) }

// keep keeps the state with the receipt as it is now.
func (w *work) keep(ctx context.Context, mark []byte) error {
	w.state.Receipt = *w.Receipt()
	return w.Log.Keep(ctx, w.state, mark)
}

// enter keeps that a step of a kind begins.
func (w *work) enter(ctx context.Context, kind string) error {
	w.state.Receipt = *w.Receipt()
	return w.Log.Enter(ctx, kind, w.state)
}

// keeper returns what a transfer calls with its marks, or nil where none are kept.
func (w *work) keeper(ctx context.Context, meter *transfer.Meter, count func(*receipt.Receipt, *transfer.Meter)) func(transfer.Mark) error {
	if w.Log.Forgets() {
		return nil
	}
	before := w.proof
	return func(m transfer.Mark) error {
		b, err := m.AppendBinary(nil)
		if err != nil {
			return err
		}
		s := w.state
		s.Receipt = before
		count(&s.Receipt, meter)
		return w.Log.Keep(ctx, s, b)
	}
}

// recall reads the marks of the step of a kind. each, unless it is nil, gets what was written.
func (w *work) recall(ctx context.Context, kind string, size int64, each func(disk.Written) bool) (transfer.Result, error) {
	r := transfer.Result{Leaves: fingerprint.NewLeaves(size)}
	for b, err := range w.Log.Marks(ctx, kind) {
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
func (w *work) recallState() (bool, error) {
	var old State
	if there, err := w.Log.Load(&old); err != nil || !there || old.Staged == nil {
		return false, err
	}
	w.state = old
	if w.Log.IsAt(plan.StepPublish) {
		if there, err := w.isThere(); err != nil || !there {
			return false, err
		}
	}
	w.proof = old.Receipt
	w.proof.Resumed++
	return true, nil
}

// takeUp finds what an earlier time left, and drops it where it is of no use any more.
func (w *work) takeUp(ctx context.Context, source, base string) error {
	var old State
	known, err := w.Log.Load(&old)
	if err != nil {
		return err
	}
	if known {
		switch {
		case !sameSeen(old.Source, source) && !w.keepsUp(): // which reads all again that may have changed
			w.remark("it was begun anew since the source had changed")
		case old.Base != base:
			w.remark("it was begun anew since the base had changed")
		default:
			w.state = old
			there, err := w.isThere()
			if err != nil {
				return err
			}
			fitted, err := w.isFitted()
			if err != nil {
				return err
			}
			if there && fitted && w.isSalvaged() {
				w.proof = old.Receipt
				w.proof.Resumed++
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
		atCommit := w.Log.IsAt(plan.StepFill) // when some files are made
		placed := w.Log.IsAt(plan.StepPublish) && w.isPlaced(dir, name)
		there = there && (err == nil || atCommit || placed)
	}
	if _, err := w.Ends.Destination.Stat(w.staging()); err != nil && w.Log.IsAt(plan.StepFill) {
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
	if err := destination(w.Clear()); err != nil {
		return err
	}
	if err := w.Log.Forget(ctx); err != nil {
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
	if !slices.Contains(w.proof.Doubts, text) {
		w.proof.Doubts = append(w.proof.Doubts, text)
	}
}

func (w *work) remark(text string) { w.proof.Remarks = append(w.proof.Remarks, text) }
