package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"iter"

	"bagaglio/core/storage"
)

// Written is a range that a Writer was given. For an [Encoder], Encoded is the length of what it made of the block.
type Written struct {
	Extent
	Encoded int64
}

// replay is on while a writer is told again what it was given.
type replay struct{ on bool }

// Resume makes a Writer again whose process ended, from the same target, on the files that it left. Where a format puts
// things follows from nothing but the order in which it hears of them: it is told again what it was given, in guest order and
// up to a checkpoint, and writes none of it. What lies behind that is forgotten.
func Resume(f Format, t Target, written iter.Seq2[Written, error]) (Writer, error) {
	t.replay = &replay{on: true}
	w, err := f.Create(t)
	if err != nil {
		return nil, fmt.Errorf("taking %s up again: %w", t.Name, err)
	}
	for e, err := range written {
		if err == nil {
			err = again(w, e)
		}
		if err != nil {
			return nil, errors.Join(fmt.Errorf("taking %s up again at offset %d: %w", t.Name, e.Off, err), w.Close())
		}
	}
	t.replay.on = false
	if r, ok := w.(Resumer); ok {
		if err := r.Resumed(); err != nil {
			return nil, errors.Join(fmt.Errorf("taking %s up again: %w", t.Name, err), w.Close())
		}
	}
	return w, nil
}

// Resumer is a Writer that has something to do once it was told again all that it was given: to forget what lies behind it.
type Resumer interface{ Resumed() error }

func again(w Writer, e Written) error {
	if encoder, ok := w.(Encoder); ok {
		return encoder.Append(make([]byte, e.Encoded), e.Off)
	}
	if e.Kind != Data {
		return w.Zero(e.Off, e.Len)
	}
	if p, ok := w.(Placer); ok {
		return p.Place(e.Off, e.Len)
	}
	return nil
}

// Resumed tells whether the target's files were there from an earlier time.
func (t Target) Resumed() bool { return t.replay != nil }

// Replaying tells whether the writer is being told again what it was given: content is there then, and is not to be written.
func (t Target) Replaying() bool { return t.replay != nil && t.replay.on }

// NewFile creates a file of the image, or opens the one that is there from an earlier time.
func (t Target) NewFile(name string) (f storage.File, err error) {
	if t.replay != nil {
		f, err = t.Folder.Reopen(name)
	} else {
		f, err = t.Folder.Create(name)
	}
	if err != nil {
		return nil, fmt.Errorf("creating %s: %w", name, err)
	}
	return f, nil
}

// WriteFile makes a small file of the image whole, and syncs it.
func (t Target) WriteFile(name string, content []byte) error {
	if t.replay != nil { // an earlier time may have come this far
		if err := t.Folder.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("making %s again: %w", name, err)
		}
	}
	file, err := t.Folder.Create(name)
	if err != nil {
		return fmt.Errorf("creating %s: %w", name, err)
	}
	if _, err = file.WriteAt(content, 0); err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}

// wipe makes a range read as zeros.
func wipe(f storage.File, off, n int64) error {
	if h, ok := f.(storage.HoleMaker); ok {
		if err := h.MakeHole(off, n); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	return writeZeros(f, off, n)
}
