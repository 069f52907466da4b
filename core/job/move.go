package job

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// moveFiles gives the files of a disk their new names on the same storage, the one that opens it last. It may be done again after it was
// interrupted; where it cannot be done as a whole, it is undone. Nothing of the source ever lies in the staging folder, which is cleared.
func (w *work) moveFiles(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if w.state.Staged == nil {
		w.state.Staged = map[string]string{}
		for _, c := range w.Plan.Copied {
			info, err := w.Ends.Source.Stat(c.From)
			if err != nil {
				return err
			}
			w.state.Staged[c.To], w.state.Files = info.ID, append(w.state.Files, c.To)
		}
		if err := errors.Join(w.tagMoved(), w.sumsMoved()); err != nil {
			return err
		}
		if err := w.enter(ctx, plan.StepPlace); err != nil {
			return err
		}
	}
	if err := w.moveAll(); err != nil {
		return fmt.Errorf("giving the files their new names: %w", err)
	}
	for _, name := range companions(w.Plan.Before.Place.Path) {
		if err := w.Ends.Source.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	w.dropFolder()
	r := &w.receipt
	r.Destination = &Side{Side: *w.Plan.After, Fingerprint: r.Source.Fingerprint}
	r.Outcome, r.Compared = Proven, "the identity of each file on the storage before and after: nothing was copied"
	return errors.Join(w.syncFolders(w.dir()), w.Ends.Source.Sync(path.Dir(w.Plan.Before.Place.Path)))
}

func (w *work) moveAll() error {
	var done []plan.Copied
	for i, c := range w.Plan.Copied {
		if w.isMoved(c) { // an earlier time did so
			continue
		}
		var err error
		if i > 0 && i == len(w.Plan.Copied)-1 { // it makes the image openable: the others are there for good
			err = w.syncFolders(w.dir())
		}
		if err == nil {
			err = moveIn(w.Ends.Destination, w.Ends.Source, c.From, path.Join(w.dir(), c.To))
		}
		if err != nil {
			for _, c := range slices.Backward(done) {
				err = errors.Join(err, moveIn(w.Ends.Source, w.Ends.Destination, path.Join(w.dir(), c.To), c.From))
			}
			return err
		}
		done = append(done, c)
	}
	return nil
}

// PutBack gives files their old names that a move gave new ones before it was interrupted, when it is not to go on. For any other task there
// is nothing to do.
func (t Task) PutBack(ctx context.Context) error {
	old, err := t.Records.Load(ctx)
	if err != nil || old == nil || !t.Plan.Renames || old.Stage != plan.StepPlace && old.Stage != plan.StepHandOver {
		return err
	}
	w := &work{Task: t, state: *old}
	if old.Stage == plan.StepHandOver {
		for _, h := range t.Plan.Handovers {
			if err := t.follow(h, h.Change().Reverse(), "handed back "+t.ID); err != nil {
				return fmt.Errorf("changing the definition %s:%s back: %w", h.Pool, h.Path, err)
			}
		}
	}
	for _, c := range slices.Backward(t.Plan.Copied) {
		if !w.isMoved(c) {
			continue
		}
		if err := moveIn(t.Ends.Source, t.Ends.Destination, path.Join(w.dir(), c.To), c.From); err != nil {
			return fmt.Errorf("giving %s its old name again: %w", c.From, err)
		}
	}
	for _, name := range companions(t.Plan.After.Place.Path) {
		if err := t.Ends.Destination.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return errors.Join(w.syncFolders(w.dir()), t.Ends.Source.Sync(path.Dir(t.Plan.Before.Place.Path)))
}

// isMoved tells whether a file has its new name already.
func (w *work) isMoved(c plan.Copied) bool {
	info, err := w.Ends.Destination.Stat(path.Join(w.dir(), c.To))
	if id := w.state.Staged[c.To]; id != "" {
		return err == nil && info.ID == id
	}
	_, sourceErr := w.Ends.Source.Stat(c.From)
	return err == nil && errors.Is(sourceErr, fs.ErrNotExist)
}

// moveIn moves a file of one folder to a name in another, on the same storage.
func moveIn(to, from storage.Folder, a, b string) error {
	m, ok := to.(storage.Mover)
	if !ok {
		return errors.ErrUnsupported
	}
	return m.MoveIn(from, a, b)
}

// tagMoved puts a tag where the disk will lie, when one that fits lies beside the source.
func (w *work) tagMoved() error {
	tag := w.sourceTag()
	if tag == nil {
		return nil
	}
	w.receipt.Source.Fingerprint = tag.Fingerprint
	names := w.Plan.Names()
	for i, f := range tag.Files {
		if to, ok := names[f.Name]; ok {
			tag.Files[i].Name = to
		}
	}
	folder := storage.Sub(w.Ends.Destination, path.Dir(w.Plan.After.Place.Path))
	if err := w.writeTag(folder, path.Base(w.tagName()), *tag); err != nil {
		return fmt.Errorf("writing the tag: %w", err)
	}
	return nil
}

// dropFolder removes the folder of a disk that was one, when nothing is left in it.
func (w *work) dropFolder() {
	if name := w.Plan.Before.Place.Path; len(w.Plan.Released) > 0 && !slices.Contains(w.Plan.Released, name) {
		_ = w.Ends.Source.Remove(name) // something else is in it, or an earlier time did so
	}
}

// release holds the source, which the proven copy has taken the place of.
func (w *work) release(ctx context.Context) error {
	if w.receipt.Outcome != Proven {
		w.remark("the source stays where it is, since the new image is not proven whole")
		return nil
	}
	if w.state.LeftBehind {
		w.remark("the source stays where it is, since a machine still names it there")
		return nil
	}
	if err := w.enter(ctx, plan.StepRelease); err != nil {
		return err
	}
	folder := w.Ends.Source
	id := fmt.Sprintf("%x", sha256.Sum256([]byte("source of "+w.ID)))[:8]
	files := slices.Concat(w.Plan.Released, companions(w.Plan.Before.Place.Path))
	files = slices.DeleteFunc(files, func(f string) bool { _, err := folder.Stat(f); return err != nil }) // what an earlier time held, or never was
	held := Held{
		ID: id, Path: w.Plan.Before.Place.Path, Files: files, Until: time.Now().Add(w.Hold), Why: fmt.Sprintf("moved to %s by %s", w.Plan.After.Place, w.By),
	}
	if err := hold(folder, held, func(file string) string { return file }); err != nil {
		return fmt.Errorf("holding the source: %w", err)
	}
	w.dropFolder()
	if err := folder.Sync(path.Dir(w.Plan.Before.Place.Path)); err != nil {
		return fmt.Errorf("holding the source: %w", err)
	}
	w.remark(fmt.Sprintf("the source is held until %s", held.Until.Local().Format("2006-01-02 15:04")))
	return nil
}

// guestResult is what a tag is made of: the content of the disk.
func (w *work) guestResult(copied transfer.Result) transfer.Result {
	if w.guest != nil {
		copied.Leaves = w.guest
	}
	return copied
}
