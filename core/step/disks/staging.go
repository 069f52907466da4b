package disks

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/carry"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

const (
	// OwnFolder is the folder in a pool that holds what is ours and is no disk.
	OwnFolder = ".bagaglio"
	// SnapshotFolder is where snapshots of volumes that are read are called.
	SnapshotFolder = OwnFolder + "/snapshots"
	// ArrivingFolder holds files that come from elsewhere, each in a folder of its own (core/upload). A job may read what has arrived.
	ArrivingFolder = OwnFolder + "/arriving"
	// ArrivedFile lies beside a file there that has arrived as a whole.
	ArrivedFile = "arrived"
	// StagingFolder holds images that are being made, in a folder for each job.
	StagingFolder = OwnFolder + "/staging"
)

// staging is the folder in the destination pool in which the image is made.
func (w *work) staging() string { return path.Join(StagingFolder, w.ID) }

// stage notes which files are to get their names, so that a place that is taken by them is known for theirs afterwards.
func (w *work) stage(ctx context.Context) error {
	w.state.Staged = map[string]string{}
	for _, name := range w.state.Files {
		id, err := identity(w.Ends.Destination, path.Join(w.staging(), name))
		if err != nil {
			return fmt.Errorf("looking at what was written: %w", err)
		}
		w.state.Staged[name] = id
	}
	if !w.disk.IsFolder() { // which has its owners
		if err := w.keepOwners(); err != nil {
			return destination(err)
		}
	}
	return w.enter(ctx, plan.StepPublish)
}

// giveNames moves the files of the image from the staging folder to their names, the one that makes it openable last. It is
// past the point of return: it is not cancelled. Where one cannot be moved, those before it are moved back. It may be done again
// after it was interrupted at any point.
func (w *work) giveNames(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	dir := w.carried().Dir()
	if len(w.disk.Files) > 1 || len(w.disk.Displaced) > 0 { // those cannot be swapped all at once, and nobody may see some of each
		if err := w.moveAside(dir); err != nil {
			return errors.Join(err, w.moveBack())
		}
	}
	var undo []func() error
	for i, name := range w.state.Files {
		if w.isPlaced(dir, name) {
			continue
		}
		var back func() error
		var err error
		if i == len(w.state.Files)-1 { // it makes the image openable: the others are there for good
			err = w.syncFolders(dir)
		}
		if err == nil {
			back, err = w.move(path.Join(w.staging(), name), path.Join(dir, name))
		}
		if err != nil {
			for _, back := range slices.Backward(undo) {
				err = errors.Join(err, back())
			}
			return fmt.Errorf("giving the image its name: %w", errors.Join(err, w.moveBack()))
		}
		undo = append(undo, back)
	}
	if err := w.syncFolders(dir); err != nil {
		return err
	}
	return w.holdReplaced(dir)
}

// moveAside holds what is replaced before the new image gets its names. The file that makes it openable goes first.
func (w *work) moveAside(dir string) error {
	if !w.disk.Request.Replace {
		return nil
	}
	held := w.heldBy()
	for _, name := range slices.Backward(w.state.Files) {
		if _, err := w.Ends.Destination.Stat(path.Join(dir, name)); err == nil && !w.isPlaced(dir, name) {
			held.Files = append(held.Files, path.Join(dir, name))
		}
	}
	for _, name := range w.disk.Displaced {
		if _, err := w.Ends.Destination.Stat(name); err == nil {
			held.Files = append(held.Files, name)
		}
	}
	if len(held.Files) == 0 {
		return nil
	}
	if err := hold(w.Ends.Destination, held, itself); err != nil {
		return fmt.Errorf("holding what is replaced: %w", err)
	}
	w.remarkHeld(held)
	return w.syncFolders(dir)
}

// moveBack restores what was moved aside.
func (w *work) moveBack() error { return w.restore(heldID(w.ID)) }

// restore restores what is held at the destination under an ID, if anything is.
func (w *work) restore(id string) error {
	if _, err := readHeld(w.Ends.Destination, id); err != nil {
		return nil
	}
	_, err := Restore(w.Ends.Destination, id, false, w.Hold)
	return err
}

// heldBy is what is held for this task.
func (w *work) heldBy() Held {
	return Held{ID: heldID(w.ID), Path: w.disk.After.Place.Path, Why: "replaced by " + w.By, Until: time.Now().Add(w.Hold)}
}

// heldID is the same each time for what a task does, and short enough to be typed.
func heldID(what string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(what)))[:8] }

// itself is where files lie that are held from where they are.
func itself(file string) string { return file }

func (w *work) remarkHeld(h Held) {
	w.remark(fmt.Sprintf("what was replaced is held until %s", h.Until.Local().Format("2006-01-02 15:04")))
}

// isPlaced tells whether a file has its name already.
func (w *work) isPlaced(dir, name string) bool {
	if w.disk.Renames {
		i := slices.IndexFunc(w.disk.Copied, func(c plan.Copied) bool { return c.To == name })
		return i >= 0 && w.isMoved(w.disk.Copied[i])
	}
	id := w.state.Staged[name]
	_, err := w.Ends.Destination.Stat(path.Join(dir, name))
	if id != "" {
		now, err := identity(w.Ends.Destination, path.Join(dir, name))
		return err == nil && isIt(id, now)
	}
	_, stagedErr := w.Ends.Destination.Stat(path.Join(w.staging(), name))
	return err == nil && errors.Is(stagedErr, fs.ErrNotExist)
}

// syncFolders returns when the names of the image's files in dir, and of the folders above it, are on stable storage.
func (w *work) syncFolders(dir string) error {
	synced := map[string]bool{}
	for _, name := range w.state.Files {
		for at := path.Dir(path.Join(dir, name)); !synced[at]; at = path.Dir(at) {
			if err := w.Ends.Destination.Sync(at); err != nil && !errors.Is(err, fs.ErrNotExist) { // it comes with its first file
				return fmt.Errorf("syncing the folder %s: %w", at, err)
			}
			synced[at] = true
		}
	}
	return nil
}

// move gives a file its name and returns how to take it back. What is replaced goes to the staging folder.
func (w *work) move(staged, final string) (back func() error, err error) {
	folder := w.Ends.Destination
	err = folder.Rename(staged, final)
	switch {
	case err == nil:
		return func() error { return folder.Rename(final, staged) }, nil
	case !errors.Is(err, fs.ErrExist):
		return nil, err
	case !w.disk.Request.Replace && !carry.IsCompanion(final): // which alone speaks of a disk that is gone
		return nil, fmt.Errorf("%s came into being meanwhile, and nothing is overwritten unasked: choose another name and start again", final)
	}
	err = folder.Exchange(staged, final)
	if !errors.Is(err, errors.ErrUnsupported) {
		return func() error { return folder.Exchange(staged, final) }, err
	}
	if w.disk.Request.Replace { // this storage cannot swap: all of the old image goes first
		err = w.moveAside(w.carried().Dir())
	} else {
		err = folder.Remove(final)
	}
	if err == nil {
		err = folder.Rename(staged, final)
	}
	return func() error { return folder.Rename(final, staged) }, err
}

// holdReplaced keeps what was replaced, which lies in the staging folder now.
func (w *work) holdReplaced(dir string) error {
	folder := w.Ends.Destination
	held := w.heldBy()
	for _, name := range slices.Backward(w.state.Files) {
		if _, err := folder.Stat(path.Join(w.staging(), name)); err == nil {
			held.Files = append(held.Files, path.Join(dir, name))
		}
	}
	if !slices.ContainsFunc(held.Files, func(f string) bool { return !carry.IsCompanion(f) }) {
		return nil
	}
	err := hold(folder, held, func(file string) string { return path.Join(w.staging(), w.inside(file)) })
	if err != nil {
		return fmt.Errorf("holding what was replaced: %w", err)
	}
	w.remarkHeld(held)
	return nil
}

func isTag(name string) bool { return strings.HasSuffix(name, fingerprint.TagExtension) }

func (w *work) Clear() error {
	if w.Ends.Destination == nil || w.disk.Device != "" {
		return nil
	}
	if (w.disk.Fit != nil || w.disk.Request.Dying && w.state.Staged != nil) && w.Ends.Scratch != "" {
		if err := os.RemoveAll(w.changed()); err != nil {
			return fmt.Errorf("clearing up the scratch folder: %w", err)
		}
	}
	return Clear(w.Ends.Destination, w.ID)
}

// Clear removes what the job left in the staging folder, and our own folders where nothing else is in them.
func Clear(folder storage.Folder, id string) error {
	if err := storage.RemoveAll(folder, path.Join(StagingFolder, id)); err != nil {
		return fmt.Errorf("clearing up the staging folder of job %s: %w", id, err)
	}
	tidy(folder)
	return nil
}

// tidy removes our own folders where nothing is in them.
func tidy(folder storage.Folder) {
	for _, dir := range []string{StagingFolder, HeldFolder, OwnFolder} {
		_ = folder.Remove(dir) // not empty, or not there: other jobs use it
	}
}
