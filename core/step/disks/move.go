package disks

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// moveFiles gives the files of a disk their new names on the same storage, the one that opens it last, and changes the names in what names
// them. It may be done again after it was interrupted; where it cannot be done as a whole, it is undone. Nothing of the source ever lies
// in the staging folder, which is cleared.
func (w *work) moveFiles(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if w.state.Staged == nil {
		if err := w.beforeMove(); err != nil {
			return err
		}
		if err := w.enter(ctx, plan.StepRename); err != nil {
			return err
		}
	}
	if err := w.moveAll(ctx); err != nil {
		return fmt.Errorf("giving the files their new names: %w", errors.Join(err, w.unmove()))
	}
	if err := w.dropCompanions(); err != nil {
		return err
	}
	w.dropFolder()
	r := &w.proof
	r.Destination = &receipt.Side{
		Side:            *w.disk.After,
		Fingerprint:     r.Source.Fingerprint,
		FingerprintFrom: r.Source.FingerprintFrom,
		FingerprintAt:   r.Source.FingerprintAt,
	}
	r.Outcome, r.Compared = receipt.Proven, "the identity of each file on the storage before and after: nothing was copied, and its content was not read"
	if slices.Contains(slices.Collect(maps.Values(w.state.Staged)), "") {
		r.Compared = "the length of each file before and after its host gave it the new name: nothing was copied, and its content was not read"
	}
	return w.syncMoved()
}

// beforeMove notes what the files are, and which tags fit to them, and holds what lies beside the new name and speaks of a disk that is
// gone.
func (w *work) beforeMove() error {
	w.state.Staged = map[string]string{}
	for _, c := range w.disk.Copied {
		if c.Stays {
			continue
		}
		id, err := identity(w.Ends.Source, c.From)
		if err != nil {
			return err
		}
		w.state.Staged[c.To], w.state.Files = id, append(w.state.Files, c.To)
	}
	tags := []string{fingerprint.TagName(w.disk.Before.Place.Path)}
	for _, c := range w.disk.Copied {
		if isTag(c.From) {
			tags = append(tags, c.From)
		}
	}
	for i, name := range tags {
		size := int64(fingerprint.HeadOnly)
		if i == 0 { // its fingerprint is told: its leaves have to make it
			size = w.disk.Before.VirtualSize
		}
		tag, err := inspect.ReadTag(w.Ends.Source, name, size)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fingerprint.ErrTag) {
			continue
		}
		if err != nil {
			return err
		}
		if (i > 0 || tag.Leaves != nil) && fitsFiles(w.Ends.Source, tag.Files, path.Dir(name)) {
			w.state.Fitting = append(w.state.Fitting, name)
		}
	}
	_, err := w.holdBeside(w.Ends.Destination, companions(w.disk.After.Place.Path), "beside "+w.ID, "it lay beside the new name of a disk")
	return err
}

// holdBeside holds those of some files that are there: they lie beside a disk and only say something of it.
func (w *work) holdBeside(folder storage.Folder, names []string, label, why string) (held bool, err error) {
	var files []string
	for _, file := range names {
		if _, err := folder.Stat(file); err == nil {
			files = append(files, file)
		}
	}
	if len(files) == 0 {
		return false, nil
	}
	return true, hold(
		folder,
		Held{ID: heldID(label), Path: files[0], Files: files, Until: time.Now().Add(w.Hold), Why: why + " (" + w.By + ")"},
		itself,
	)
}

func (w *work) moveAll(ctx context.Context) error {
	if err := w.moveAside(w.carried().Dir()); err != nil {
		return err
	}
	for i, c := range w.disk.Copied {
		if c.Stays || w.isMoved(c) { // an earlier time did so
			continue
		}
		if i > 0 && i == len(w.disk.Copied)-1 { // it makes the image openable: the others are there for good
			if err := w.syncFolders(w.carried().Dir()); err != nil {
				return err
			}
		}
		to := path.Join(w.carried().Dir(), c.To)
		if err := moveIn(w.Ends.Destination, w.Ends.Source, c.From, to); err != nil {
			return err
		}
		info, err := w.Ends.Destination.Stat(to)
		if err != nil {
			return err
		}
		if info.Size != c.Size {
			return fmt.Errorf("%s has %s, and had %s before it got its new name", to, plan.Bytes(info.Size), plan.Bytes(c.Size))
		}
	}
	if len(w.disk.Rewrites) > 0 {
		if err := w.syncMoved(); err != nil { // so that what is changed is known to lie in its new place
			return err
		}
		if err := w.changeNames(storage.Sub(w.Ends.Destination, w.carried().Dir())); err != nil {
			return err
		}
		if err := w.opensMoved(ctx); err != nil {
			return err
		}
	}
	return w.moveTags()
}

// syncMoved returns when the new names, and that the old ones are gone, are on stable storage.
func (w *work) syncMoved() error {
	for _, c := range w.disk.Copied {
		if err := w.Ends.Source.Sync(path.Dir(c.From)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("syncing the folder %s: %w", path.Dir(c.From), err)
		}
	}
	return w.syncFolders(w.carried().Dir())
}

// opensMoved fails unless the disks open in their new places.
func (w *work) opensMoved(ctx context.Context) error {
	at := func(name, format string) (disk.Reader, error) {
		return disk.Open(ctx, w.Ends.Destination, path.Join(w.carried().Dir(), name), format)
	}
	if err := w.opensFamily(at); err != nil {
		return err
	}
	r, err := disk.Open(ctx, w.Ends.Destination, w.disk.After.Place.Path, w.disk.Before.Format)
	if err != nil {
		return err
	}
	return r.Close()
}

// moveTags has the tags that fit speak of the files as they are now. One that does not fit goes along as it is, and is no better there.
func (w *work) moveTags() error {
	staged := path.Join(w.staging(), "tag")
	for _, c := range w.disk.Copied {
		if !slices.Contains(w.state.Fitting, c.From) {
			continue
		}
		at := path.Join(w.carried().Dir(), c.To)
		if err := refile(w.Ends.Destination, at, w.Ends.Destination, at, staged, nil); err != nil {
			return fmt.Errorf("following the tag %s: %w", c.From, err)
		}
	}
	old := fingerprint.TagName(w.disk.Before.Place.Path)
	at := path.Join(w.carried().Dir(), w.tagName())
	fits := slices.Contains(w.state.Fitting, old)
	_, err := w.Ends.Source.Stat(old)
	switch {
	case errors.Is(err, fs.ErrNotExist): // or an earlier time dropped it
		err = nil
	case err == nil && fits:
		err = refile(w.Ends.Source, old, w.Ends.Destination, at, staged, w.taggedNames())
	case err == nil:
		w.remark("its tag is older than its files, or damaged: it went along as it was")
		err = remake(w.Ends.Source, old, w.Ends.Destination, at, staged, func(w io.Writer, r io.Reader) error {
			_, err := io.Copy(w, r)
			return err
		})
	}
	if err != nil {
		return fmt.Errorf("following the tag %s: %w", old, err)
	}
	if tag, err := inspect.ReadTag(w.Ends.Destination, at, fingerprint.HeadOnly); err == nil && fits {
		s := &w.proof.Source
		s.Fingerprint, s.FingerprintFrom, s.FingerprintAt = tag.Fingerprint, receipt.FromTag, &tag.Made
	}
	return w.sumsMoved()
}

// taggedNames are the new names of files in a tag, which are relative to the folder that it lies in, by their old ones.
func (w *work) taggedNames() map[string]string {
	from, to := path.Dir(w.disk.Before.Place.Path), path.Dir(w.disk.After.Place.Path)
	names := map[string]string{}
	for _, c := range w.disk.Copied {
		names[within(from, c.From)] = within(to, path.Join(w.carried().Dir(), c.To))
	}
	return names
}

// within is a name as seen from a folder that it lies below.
func within(dir, name string) string {
	if dir == "." {
		return name
	}
	return strings.TrimPrefix(name, dir+"/")
}

// dropCompanions removes what lies beside the old name and has a new one now. A tag that did not fit is held.
func (w *work) dropCompanions() error {
	name := w.disk.Before.Place.Path
	if tag := fingerprint.TagName(name); !slices.Contains(w.state.Fitting, tag) {
		held, err := w.holdBeside(w.Ends.Source, []string{tag}, "tag of "+w.ID, "its disk got another name, and it was older than that")
		if err != nil {
			return err
		}
		if held {
			w.remark("the tag as it was is held")
		}
	}
	for _, name := range companions(name) {
		if err := w.Ends.Source.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// unmove gives files their old names again, and their old bytes back to those in which names were changed.
func (w *work) unmove() error {
	err := w.namesBack(storage.Sub(w.Ends.Destination, w.carried().Dir()))
	for _, c := range slices.Backward(w.disk.Copied) {
		if c.Stays || !w.isMoved(c) {
			continue
		}
		if backErr := moveIn(w.Ends.Source, w.Ends.Destination, path.Join(w.carried().Dir(), c.To), c.From); backErr != nil {
			err = errors.Join(err, fmt.Errorf("giving %s its old name again: %w", c.From, backErr))
		}
	}
	for _, name := range companions(w.disk.After.Place.Path) {
		if dropErr := w.Ends.Destination.Remove(name); dropErr != nil && !errors.Is(dropErr, fs.ErrNotExist) {
			err = errors.Join(err, dropErr)
		}
	}
	return errors.Join(err, w.restore(heldID(w.ID)), w.restore(heldID("beside "+w.ID)))
}

// CallOff gives files their old names that a move gave new ones before it was interrupted. Other work leaves what was there as it is.
func (w *work) CallOff(ctx context.Context) error {
	known, err := w.Log.Load(&w.state)
	if err != nil || !known || !w.disk.Renames || !w.Log.IsAt(plan.StepRename, plan.StepHandOver) {
		return err
	}
	if w.Log.IsAt(plan.StepHandOver) {
		if err := w.handBack(ctx); err != nil {
			return err
		}
	}
	return w.unrename(ctx)
}

// unrename gives the files of a disk their old names again, for good.
func (w *work) unrename(context.Context) error { return errors.Join(w.unmove(), w.syncMoved()) }

// isMoved tells whether a file has its new name already.
func (w *work) isMoved(c plan.Copied) bool {
	_, err := w.Ends.Destination.Stat(path.Join(w.carried().Dir(), c.To))
	if id := w.state.Staged[c.To]; id != "" && !isTag(c.To) { // a tag is made anew there
		now, err := identity(w.Ends.Destination, path.Join(w.carried().Dir(), c.To))
		return err == nil && isIt(id, now)
	}
	_, sourceErr := w.Ends.Source.Stat(c.From)
	return err == nil && errors.Is(sourceErr, fs.ErrNotExist)
}

// moveIn moves a file of one folder to a name in another, on the same storage.
func moveIn(to, from storage.Folder, a, b string) error {
	m, ok := storage.As[storage.Mover](to)
	if !ok {
		return errors.ErrUnsupported
	}
	return m.MoveIn(from, a, b)
}

// dropFolder removes the folder of a disk that was one, when nothing is left in it.
func (w *work) dropFolder() {
	if name := w.disk.Before.Place.Path; len(w.disk.Released) > 0 && !slices.Contains(w.disk.Released, name) {
		_ = w.Ends.Source.Remove(name) // something else is in it, or an earlier time did so
	}
}

// leave holds the source, which the proven copy has taken the place of.
func (w *work) leave(ctx context.Context) error {
	if w.proof.Outcome != receipt.Proven {
		w.remark("the source stays where it is, since the new image is not proven whole")
		return nil
	}
	if w.state.LeftBehind {
		w.remark("the source stays where it is, since a machine still names it there")
		return nil
	}
	if err := w.noteReleased(); err != nil {
		return err
	}
	if err := w.enter(ctx, plan.StepRelease); err != nil {
		return err
	}
	held := Held{
		ID:    w.heldSource(),
		Path:  w.disk.Before.Place.Path,
		Until: time.Now().Add(w.Hold),
		Why:   fmt.Sprintf("moved to %s by %s", w.disk.After.Place, w.By),
		Moved: w.disk.After.Place.String(),
	}
	for _, h := range w.disk.Handovers {
		held.Definitions = append(held.Definitions, HeldDefinition{h.Machine, h.Pool, h.Path, heldID(handedOver + w.ID + " " + h.Path)})
	}
	if m := w.Plan.Machine; m != nil && m.Undoes == nil {
		held.Machine = &HeldMachine{Machine: m.Here(), File: m.Name + m.Extension, Definition: m.Stored}
	}
	if err := w.holdSource(held); err != nil {
		return err
	}
	w.remark(fmt.Sprintf("the source is held until %s", held.Until.Local().Format("2006-01-02 15:04")))
	return nil
}

// noteReleased notes which files those of the source are. An earlier time did so when all were there.
func (w *work) noteReleased() error {
	if w.state.Released != nil {
		return nil
	}
	w.state.Released = map[string]string{}
	for _, name := range w.disk.Released {
		id, err := identity(w.Ends.Source, name)
		if errors.Is(err, fs.ErrNotExist) { // it never was
			continue
		}
		if err != nil {
			return err
		}
		w.state.Released[name] = id
	}
	return nil
}

// holdSource holds those files, with what lies beside them and speaks of them.
func (w *work) holdSource(held Held) error {
	folder := w.Ends.Source
	held.Files = slices.DeleteFunc(
		Goes(w.disk),
		func(f string) bool { _, err := folder.Stat(f); return err != nil },
	) // what an earlier time held, or never was
	if err := hold(folder, held, itself); err != nil {
		return fmt.Errorf("holding the source: %w", err)
	}
	w.dropFolder()
	if err := folder.Sync(path.Dir(w.disk.Before.Place.Path)); err != nil {
		return fmt.Errorf("holding the source: %w", err)
	}
	return nil
}

// Goes are the files that are held of a source when its disk has moved, whether they are there or not; none where it stays.
func Goes(d plan.Disk) []string {
	if len(d.Released) == 0 {
		return nil
	}
	return slices.Concat(d.Released, companions(d.Before.Place.Path))
}

// guestResult is what a tag is made of: the content of the disk.
func (w *work) guestResult(copied transfer.Result) transfer.Result {
	if w.guest != nil {
		copied.Leaves = w.guest
	}
	return copied
}
