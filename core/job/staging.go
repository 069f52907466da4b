package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"bagaglio/core/storage"
)

const (
	// OwnFolder is the folder in a pool that holds what is ours and is no disk.
	OwnFolder = ".bagaglio"
	// StagingFolder holds images that are being made, in a folder for each job.
	StagingFolder = OwnFolder + "/staging"
)

// place moves the image from the staging folder to its name. It is past the point of return: it is not cancelled.
func (w *work) place(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	folder, final := w.ends.Destination, w.plan.Request.Destination.Path
	staged := path.Join(w.staging(), path.Base(final))
	err := folder.Rename(staged, final)
	if errors.Is(err, fs.ErrExist) {
		if !w.plan.Request.Replace {
			return fmt.Errorf("%s came into being meanwhile, and nothing is overwritten unasked: choose another name and start again", w.plan.Request.Destination)
		}
		err = folder.Exchange(staged, final) // the old one goes with the staging folder
	}
	if err != nil {
		return fmt.Errorf("giving the image its name: %w", err)
	}
	// The folders above may be new too.
	for dir := path.Dir(final); ; dir = path.Dir(dir) {
		if err := folder.Sync(dir); err != nil {
			return fmt.Errorf("syncing the folder %s: %w", dir, err)
		}
		if dir == "." {
			return nil
		}
	}
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
