package disks

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// parted is a file of a source when its content was looked at last. What is written to it later is in no copy, which has to be known before
// somebody relies on the copy in its place: a job may wait for days behind the proof. Nothing of it is another when a computer was started again.
type parted struct {
	Name     string    `json:"name"`
	Version  string    `json:"version,omitempty"` // see storage.Versioner
	Written  string    `json:"written,omitempty"` // see storage.WriteCounter
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

func part(folder storage.Folder, name string) (parted, error) {
	info, err := folder.Stat(name)
	if err != nil {
		return parted{}, fmt.Errorf("looking at %s again: %w", name, err)
	}
	p := parted{Name: name, Size: info.Size, Modified: info.Modified}
	if v, ok := storage.As[storage.Versioner](folder); ok {
		if p.Version, err = v.Version(name); err != nil {
			return p, fmt.Errorf("looking at %s again: %w", name, err)
		}
	}
	p.Written, err = writtenTo(folder, name)
	return p, err
}

// writtenTo changes whenever something is written to a file whose times do not tell that, and is empty for all others.
func writtenTo(folder storage.Folder, name string) (written string, err error) {
	if c, ok := storage.As[storage.WriteCounter](folder); ok {
		if written, err = c.Written(name); err != nil {
			err = fmt.Errorf("looking at %s again: %w", name, err)
		}
	}
	return written, err
}

// isStill tells whether a file is what it was.
func (p parted) isStill(now parted) bool {
	return p.Size == now.Size && p.Modified.Equal(now.Modified) && storage.SameVersion(p.Version, now.Version) && p.Written == now.Written
}

// errWritten is the error for a source that was written to when its copy was proven already.
var errWritten = errors.New("the source was written to after it was read, and its copy has the content from before that")

// still fails when the source is in use, or was written to since its content was looked at last. It stays then.
func (w *work) still(ctx context.Context) error {
	if w.disk.IsFolder() {
		return w.treeStill(ctx)
	}
	source := watched{folder: w.Ends.Source}
	for _, p := range w.state.Parted { // there are none where an earlier version began the job
		source.files = append(source.files, p.Name)
	}
	if _, err := source.look(); errors.Is(err, step.ErrInUse) {
		return &step.BlockedError{Check: plan.SourceInUse(err)}
	} else if err != nil {
		return err
	}
	for _, p := range w.state.Parted {
		now, err := part(w.Ends.Source, p.Name)
		if err != nil {
			return err
		}
		if !p.isStill(now) {
			return fmt.Errorf("%w: %s stays where it is; shut down what writes to it, and begin again", errWritten, p.Name)
		}
	}
	return nil
}

// see looks whether the source is still what was copied, as a step of its own.
func see(kind string) step.Action {
	return step.On(func(w *work, ctx context.Context) error {
		return w.report.Run(kind, nil, nil, func() error { return w.still(ctx) })
	})
}
