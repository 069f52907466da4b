package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// ErrInUse is the error for a disk that another program has open for writing, or has locked.
var ErrInUse = errors.New("it is in use")

// watched are files that nobody should write to as long as they are read.
type watched struct {
	folder storage.Folder
	files  []string
}

func files(r disk.Reader) []string {
	d := r.Describe()
	return append(append([]string{}, d.Files...), d.Chain...)
}

// look returns what changes when somebody writes to the files. It fails when somebody is about to.
func (w watched) look() (string, error) {
	var state string
	for _, name := range w.files {
		info, err := w.folder.Stat(name)
		if err != nil {
			return "", fmt.Errorf("looking at %s again: %w", name, err)
		}
		if err := inUse(w.folder, name); err != nil {
			return "", err
		}
		state += fmt.Sprintln(name, info.ID, info.Size, info.Modified.UnixNano())
	}
	return state, nil
}

// inUse fails for a file that another program uses, where the storage can tell.
func inUse(folder storage.Folder, name string) error {
	u, ok := folder.(storage.Usage)
	if !ok {
		return nil
	}
	why, err := u.InUse(name)
	if err != nil || why == "" {
		return err
	}
	return fmt.Errorf("%s: %w: %s; shut down what uses it, then start again", name, ErrInUse, why)
}

// lookAtBase finds what the new image stands on, if it does.
func (w *work) lookAtBase(ctx context.Context) (string, error) {
	if w.Plan.Request.Base == "" {
		return "", nil
	}
	base, err := openBase(ctx, w.Ends.Destination, w.Plan.Request)
	if err != nil {
		return "", err
	}
	w.base = watched{w.Ends.Destination, files(base)}
	if err := base.Close(); err != nil {
		return "", err
	}
	return w.base.look()
}

// mostWatched bounds how many files are looked at all the while; of more, only at the beginning and at the end.
const mostWatched = 100

// watching looks at the source before each mark, so that hours are not spent on one that somebody writes to.
func (w *work) watching(keep func(transfer.Mark) error) func(transfer.Mark) error {
	if w.Plan.Request.Recopy || len(w.source.files) > mostWatched { // then the closing look decides
		return keep
	}
	return func(m transfer.Mark) error {
		now, err := w.source.look()
		if err != nil {
			return err
		}
		if now != w.state.Source {
			return errChanged
		}
		return keep(m)
	}
}

// errChanged is the error for a source that somebody wrote to.
var errChanged = errors.New("the source changed while it was copied: shut down what writes to it, then start again, or let what differs be copied again (recopy)")

// closingLook fails when what was read is not what it was any more.
func (w *work) closingLook() error {
	source, err := w.source.look()
	if err != nil {
		return err
	}
	if source != w.state.Source {
		if !w.Plan.Request.Recopy {
			return errChanged
		}
		w.remark("the source was changed again after it had been copied: the copy has the content from before that")
	}
	base, err := w.base.look()
	if err != nil {
		return err
	}
	if base != w.state.Base {
		return errors.New("the base changed while the image was written, which holds only what differs from it: start again")
	}
	return nil
}

// samples is in how many places the closing look compares content.
const samples = 16

// sample reads some of the source again and compares it with what was copied.
func (w *work) sample(ctx context.Context, src disk.Reader, copied transfer.Result) (same bool, err error) {
	total := copied.Leaves.Total()
	p := make([]byte, fingerprint.LeafSize)
	last := int64(-1)
	var meter transfer.Meter
	defer func() { w.receipt.Retries += meter.Retries.Load() }()
	for i := range int64(samples) {
		number := (total - 1) / (samples - 1) * i
		if i == samples-1 {
			number = total - 1
		}
		if number == last || overlaps(copied.Damaged, number) {
			continue
		}
		last = number
		if err := ctx.Err(); err != nil {
			return false, err
		}
		var n int
		err := transfer.Retry(ctx, &meter, func() (err error) {
			if n, err = src.ReadAt(p, number*fingerprint.LeafSize); errors.Is(err, io.EOF) {
				err = nil
			}
			return err
		})
		if err != nil {
			return false, fmt.Errorf("reading some of the source again at offset %d: %w", number*fingerprint.LeafSize, err)
		}
		if got, want := fingerprint.Leaf(p[:n]), copied.Leaves.At(number); !bytes.Equal(got[:], want[:]) {
			return false, nil
		}
	}
	return true, nil
}

// overlaps tells whether a leaf lies in one of the ranges.
func overlaps(ranges []fingerprint.Range, leaf int64) bool {
	for _, r := range ranges {
		if r.Offset < (leaf+1)*fingerprint.LeafSize && r.Offset+r.Length > leaf*fingerprint.LeafSize {
			return true
		}
	}
	return false
}
