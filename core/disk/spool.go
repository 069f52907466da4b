package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"bagaglio/core/fingerprint"
)

// Spool makes a Writer of an Encoder, which can only be given each block once and in guest order: what is written goes to
// a file beside, and at Commit from there through the encoder.
type Spool struct {
	encoder Encoder
	target  Target
	mu      sync.Mutex
	scratch *flat // nil as long as nothing was written
}

// NewSpool returns the spool of the image that the encoder makes.
func NewSpool(t Target, e Encoder) *Spool {
	t.Name += ".spool"
	return &Spool{encoder: e, target: t}
}

func (s *Spool) file() (*flat, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.scratch != nil {
		return s.scratch, nil
	}
	w, err := CreateFlat(s.target, false, nil)
	if err == nil {
		s.scratch = w.(*flat)
	}
	return s.scratch, err
}

func (s *Spool) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckRange(off, int64(len(p)), s.target.Size); err != nil {
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
	if err := CheckRange(off, n, s.target.Size); err != nil {
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
	if s.scratch == nil {
		return nil
	}
	written := FilePiece{File: s.scratch.file, Len: s.target.Size}
	unit := s.encoder.Unit()
	block := make([]byte, unit)
	next := int64(0) // behind the last block that was appended
	err := Extents(ctx, spooled{written}, func(e Extent) error {
		for at := max(e.Off/unit*unit, next); e.Kind == Data && at < e.End(); at += unit {
			if err := ctx.Err(); err != nil {
				return err
			}
			p := block[:min(unit, s.target.Size-at)]
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
	return errors.Join(err, s.Close())
}

// Close removes the file.
func (s *Spool) Close() error {
	if s.scratch == nil {
		return nil
	}
	return s.scratch.Abort()
}

// spooled is the file as a disk.
type spooled struct{ FilePiece }

func (s spooled) Size() int64           { return s.Len }
func (s spooled) Close() error          { return nil }
func (s spooled) Describe() Description { return Description{} }

// Forward writes a file from front to back, in large pieces.
type Forward struct {
	File   io.WriterAt
	End    int64 // of what was written, buffered bytes included
	buffer []byte
}

// forwardSize is how much is gathered before it is written.
const forwardSize = 1 << 20

// Write appends p.
func (f *Forward) Write(p []byte) (int, error) {
	f.buffer = append(f.buffer, p...)
	f.End += int64(len(p))
	if len(f.buffer) < forwardSize {
		return len(p), nil
	}
	return len(p), f.Flush()
}

// Pad appends zeros up to a multiple of unit.
func (f *Forward) Pad(unit int64) error {
	rest := (unit - f.End%unit) % unit
	_, err := f.Write(make([]byte, rest))
	return err
}

// Flush writes what was gathered.
func (f *Forward) Flush() error {
	_, err := f.File.WriteAt(f.buffer, f.End-int64(len(f.buffer)))
	f.buffer = f.buffer[:0]
	return err
}
