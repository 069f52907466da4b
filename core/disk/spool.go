package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// Spool makes a Writer of an Encoder, which can only be given each block once and in guest order: what is written goes to
// a file beside, and at Commit from there through the encoder. A format embeds it and adds its structures.
type Spool struct {
	Target  Target
	File    storage.File
	Out     Forward // to File
	encoder Encoder
	done    bool

	mu      sync.Mutex
	scratch *flat // nil as long as nothing was written
}

// NewSpool creates the file of the image that the encoder makes.
func NewSpool(t Target, e Encoder) (*Spool, error) {
	file, err := t.NewFile(t.Name)
	if err != nil {
		return nil, err
	}
	return &Spool{Target: t, File: file, Out: Forward{File: file, skip: t.Resumed()}, encoder: e}, nil
}

func (s *Spool) file() (*flat, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.scratch != nil {
		return s.scratch, nil
	}
	beside := s.Target
	beside.Name += ".spool"
	beside.replay = nil
	w, err := CreateFlat(beside, false, nil)
	if err == nil {
		s.scratch = w.(*flat)
	}
	return s.scratch, err
}

func (s *Spool) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckRange(off, int64(len(p)), s.Target.Size); err != nil {
		return 0, err
	}
	w, err := s.file()
	if err != nil {
		return 0, err
	}
	return w.WriteAt(p, off)
}

// Zero makes a range read as zeros.
func (s *Spool) Zero(off, n int64) error {
	if err := CheckRange(off, n, s.Target.Size); err != nil {
		return err
	}
	s.mu.Lock()
	w := s.scratch
	s.mu.Unlock()
	if w == nil {
		return nil
	}
	return w.Zero(off, n)
}

// Drain encodes and appends all that was written, and removes the file. The caller then completes the image.
func (s *Spool) Drain(ctx context.Context) error {
	if err := ctx.Err(); err != nil || s.scratch == nil {
		return err
	}
	written := FilePiece{File: s.scratch.file, Len: s.Target.Size}
	unit := s.encoder.Unit()
	block := make([]byte, unit)
	next := int64(0) // behind the last block that was appended
	err := Extents(ctx, spooled{written}, func(e Extent) error {
		for at := max(e.Off/unit*unit, next); e.Kind == Data && at < e.End(); at += unit {
			if err := ctx.Err(); err != nil {
				return err
			}
			p := block[:min(unit, s.Target.Size-at)]
			if _, err := written.ReadAt(p, at); err != nil {
				return err
			}
			next = at + unit
			if fingerprint.IsZero(p) {
				continue
			}
			encoded, err := s.encoder.Encode(nil, p)
			if err == nil {
				err = s.encoder.Append(encoded, at)
			}
			if err != nil {
				return fmt.Errorf("encoding the block at offset %d: %w", at, err)
			}
		}
		return nil
	})
	return errors.Join(err, s.scratch.Close(), s.Target.Folder.Remove(s.scratch.target.Name))
}

// Finish writes what was gathered and the structures, in that order, and syncs all. It ends the writer.
func (s *Spool) Finish(parts ...Part) error {
	err := s.Out.Flush()
	if err == nil {
		err = WriteParts(s.File, s.Target.Name, parts...)
	}
	if err != nil {
		return err
	}
	if err := s.File.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", s.Target.Name, err)
	}
	s.done = true
	return s.File.Close()
}

// Checkpoint covers what was appended, not what was written out of order.
func (s *Spool) Checkpoint() error {
	if err := s.Out.Flush(); err != nil {
		return err
	}
	return s.File.Sync()
}

// Resumed forgets what lies behind the blocks that it was told of.
func (s *Spool) Resumed() error {
	s.Out.skip = false
	return s.File.Truncate(s.Out.End)
}

func (s *Spool) Close() error {
	if s.done {
		return nil
	}
	s.done = true
	var err error
	if s.scratch != nil {
		err = s.scratch.Close()
	}
	return errors.Join(err, s.File.Close())
}

// Files is the one file.
func (s *Spool) Files() []string { return []string{s.Target.Name} }

// spooled is the file as a disk.
type spooled struct{ FilePiece }

func (s spooled) Size() int64           { return s.Len }
func (s spooled) Close() error          { return nil }
func (s spooled) Describe() Description { return Description{} }

// Forward writes a file from front to back, in large pieces.
type Forward struct {
	File io.WriterAt
	End  int64 // of what was written, buffered bytes included
	skip bool  // it is there already

	mu     sync.Mutex
	buffer []byte
	start  int64 // file offset of the buffer
}

// forwardSize is how much is gathered before it is written.
const forwardSize = 1 << 20

// Write appends p.
func (f *Forward) Write(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.buffer) == 0 {
		f.start = f.End
	}
	f.End += int64(len(p))
	if f.skip {
		return len(p), nil
	}
	f.buffer = append(f.buffer, p...)
	if len(f.buffer) < forwardSize {
		return len(p), nil
	}
	return len(p), f.flush()
}

// Pad appends zeros up to a multiple of unit.
func (f *Forward) Pad(unit int64) error {
	rest := (unit - f.End%unit) % unit
	_, err := f.Write(make([]byte, rest))
	return err
}

// Flush writes what was gathered. It may be called while another goroutine writes.
func (f *Forward) Flush() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.flush()
}

func (f *Forward) flush() error {
	_, err := f.File.WriteAt(f.buffer, f.start)
	f.buffer = f.buffer[:0]
	return err
}
