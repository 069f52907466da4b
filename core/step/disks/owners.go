package disks

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
)

// keepOwners gives the files the owner, the mode and the labels that their source has, but what the rules of the pool ask for.
func (w *work) keepOwners() error {
	o, ok := storage.As[storage.Owner](w.Ends.Destination)
	if !ok {
		if w.disk.Owner != "" || w.disk.Mode != "" {
			w.remark("the destination's storage keeps no owner and mode of files: the rules of the pool are not kept in that")
		}
		return nil
	}
	for _, name := range w.state.Files {
		staged, like := path.Join(w.staging(), name), w.like(name)
		from, err := w.Ends.Source.Stat(like)
		if err != nil {
			return fmt.Errorf("looking at the owner and mode of %s: %w", like, err)
		}
		if err := w.giveTo(o, staged, from); err != nil {
			return err
		}
		if err := w.label(staged, like); err != nil {
			return err
		}
		if err := syncAgain(w.Ends.Destination, staged); err != nil {
			return err
		}
	}
	return nil
}

// like is the file of the source that a new one takes owner, mode and labels of.
func (w *work) like(name string) string {
	for _, c := range w.disk.Copied {
		if path.Join(w.disk.Root, c.To) == path.Join(w.carried().Dir(), name) {
			return c.From
		}
	}
	if at := w.disk.Before.Place.Path; slices.Contains(w.source.files, at) {
		return at
	}
	return w.source.files[0] // of a folder that is a disk
}

// giveTo sets owner and mode of a staged file.
func (w *work) giveTo(o storage.Owner, staged string, from storage.Info) error {
	owner, mode := w.disk.Owner, cmp.Or(w.disk.Mode, from.Mode)
	if owner == "" && w.disk.KeepsOwner && from.Owner != "" {
		err := o.Own(staged, from.Owner, "")
		if step.CanWait(err) {
			return fmt.Errorf("giving %s the owner of its source: %w", staged, err)
		}
		if err != nil {
			w.remarkOnce(fmt.Sprintf("the owner of the source (%s) could not be kept: %v", from.Owner, err))
		}
	}
	err := o.Own(staged, owner, mode)
	if err != nil && !step.CanWait(err) && w.disk.Owner == "" && w.disk.Mode == "" { // nobody asked for it
		w.remarkOnce(fmt.Sprintf("the mode of the source (%s) could not be kept: %v", from.Mode, err))
		return nil
	}
	if err != nil {
		return fmt.Errorf("giving %s its owner and mode: %w", staged, err)
	}
	return nil
}

// label sets the labels of a staged file. What the storage does not take is told.
func (w *work) label(staged, like string) error {
	from, ok := storage.As[storage.Labeler](w.Ends.Source)
	if !ok {
		return nil
	}
	labels, err := from.Labels(like)
	if err != nil {
		return err
	}
	to, ok := storage.As[storage.Labeler](w.Ends.Destination)
	if len(labels) > 0 && !ok {
		w.remarkOnce(
			"the destination's storage keeps no extended attributes: " + strings.Join(
				slices.Sorted(maps.Keys(labels)),
				", ",
			) + " of the source are not taken along",
		)
	}
	if len(labels) == 0 || !ok {
		return nil
	}
	if err := to.SetLabels(staged, labels); err != nil {
		w.remarkOnce(fmt.Sprintf("not everything that is noted of the source could be taken along: %v", err))
	}
	return nil
}

func (w *work) remarkOnce(text string) {
	if !slices.Contains(w.proof.Remarks, text) {
		w.remark(text)
	}
}

// syncAgain returns when what is known of a file, and not in it, is on stable storage.
func syncAgain(folder storage.Folder, name string) error {
	file, err := folder.Open(name)
	if errors.Is(err, fs.ErrPermission) { // it belongs to somebody else now: the sync of its folder has to do
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(file.Sync(), file.Close())
}

// CloseOurs keeps others out of what a pool holds for itself: files in it may have come out of a folder that others cannot enter.
func CloseOurs(folder storage.Folder) error {
	o, ok := storage.As[storage.Owner](folder)
	if !ok {
		return nil
	}
	info, err := folder.Stat(OwnFolder)
	if err != nil || info.Mode == "" || strings.HasSuffix(info.Mode, "00") {
		return err
	}
	if err := o.Own(OwnFolder, "", "0700"); step.CanWait(err) {
		return err
	}
	return nil // it is another user's, or the storage has no modes
}

// keepingOf are the facts of what can be kept of the owner, mode and labels of a source.
func keepingOf(ends step.Ends, r plan.Request, known step.Known, name string, f *plan.DestinationFacts) error {
	from, err := ends.Source.Stat(name)
	if err != nil {
		return err
	}
	k := plan.Keeping{
		Owner:    from.Owner,
		Mode:     from.Mode,
		SameHost: known.Root != (volumes.Ground{}) || r.Source.Pool == "" && r.Destination.Pool == "",
	}
	if o, ok := storage.As[storage.Owner](ends.Destination); ok {
		k.KeepsMode, k.Gives = !storage.NoModes(f.Space.Kind), o.Gives(from.Owner)
	}
	if l, ok := storage.As[storage.Labeler](ends.Source); ok {
		labels, err := l.Labels(name)
		if err != nil {
			return err
		}
		k.Labels = slices.Sorted(maps.Keys(labels))
	}
	_, k.KeepsLabels = storage.As[storage.Labeler](ends.Destination)
	k.KeepsLabels = k.KeepsLabels && !storage.NoModes(f.Space.Kind)
	f.Keeping = k
	return nil
}
