package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"bagaglio/core/storage"
)

const (
	// OwnFolder is the folder in a pool that holds what is ours and is no disk.
	OwnFolder = ".bagaglio"
	// StagingFolder holds images that are being made, in a folder for each job.
	StagingFolder = OwnFolder + "/staging"
)

// place moves the files of the image from the staging folder to their names, the one that makes it openable last. It is
// past the point of return: it is not cancelled. Where one cannot be moved, those before it are moved back.
func (w *work) place(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	dir := path.Dir(w.plan.Request.Destination.Path)
	var undo []func() error
	for _, name := range w.files {
		back, err := w.move(path.Join(w.staging(), name), path.Join(dir, name))
		if err != nil {
			for _, back := range slices.Backward(undo) {
				err = errors.Join(err, back())
			}
			return fmt.Errorf("giving the image its name: %w", err)
		}
		undo = append(undo, back)
	}
	return w.syncFolders(dir)
}

// syncFolders returns when the names of the image's files in dir, and of the folders above it, are on stable storage.
func (w *work) syncFolders(dir string) error {
	synced := map[string]bool{}
	for _, name := range w.files {
		for at := path.Dir(path.Join(dir, name)); !synced[at]; at = path.Dir(at) {
			if err := w.ends.Destination.Sync(at); err != nil {
				return fmt.Errorf("syncing the folder %s: %w", at, err)
			}
			synced[at] = true
		}
	}
	return nil
}

// move gives a file its name and returns how to take it back. What is replaced goes to the staging folder, and with it.
func (w *work) move(staged, final string) (back func() error, err error) {
	folder := w.ends.Destination
	err = folder.Rename(staged, final)
	switch {
	case err == nil:
		return func() error { return folder.Rename(final, staged) }, nil
	case !errors.Is(err, fs.ErrExist):
		return nil, err
	case !w.plan.Request.Replace:
		return nil, fmt.Errorf("%s came into being meanwhile, and nothing is overwritten unasked: choose another name and start again", final)
	}
	return func() error { return folder.Exchange(staged, final) }, folder.Exchange(staged, final)
}

func (w *work) clear() error {
	if w.ends.Destination == nil {
		return nil
	}
	return Clear(w.ends.Destination, w.id)
}

// Clear removes what the job left in the staging folder, and our own folders where nothing else is in them.
func Clear(folder storage.Folder, id string) error {
	if err := storage.RemoveAll(folder, path.Join(StagingFolder, id)); err != nil {
		return fmt.Errorf("clearing up the staging folder of job %s: %w", id, err)
	}
	for _, dir := range []string{StagingFolder, OwnFolder} {
		if err := folder.Remove(dir); err != nil {
			break // not empty, or not there: other jobs use it
		}
	}
	return nil
}
