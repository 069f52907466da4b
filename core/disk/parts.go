package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"bagaglio/core/storage"
)

// Piece is a part of a disk that is stored apart from the others. Offsets in it are relative to it.
type Piece interface {
	io.ReaderAt
	Extent(off int64) (Extent, error)
}

// Pieces are the parts of a disk one behind the other.
type Pieces struct {
	pieces []Piece
	starts []int64 // of each, and the end of the last
}

// Add puts a piece behind those that are there.
func (s *Pieces) Add(p Piece, length int64) {
	if len(s.starts) == 0 {
		s.starts = []int64{0}
	}
	s.pieces = append(s.pieces, p)
	s.starts = append(s.starts, s.Size()+length)
}

// Size is the length of all pieces.
func (s *Pieces) Size() int64 {
	if len(s.starts) == 0 {
		return 0
	}
	return s.starts[len(s.starts)-1]
}

// At returns the piece that holds an offset of the disk, and the range that it holds.
func (s *Pieces) At(off int64) (Piece, Extent) {
	i, found := slices.BinarySearch(s.starts, off)
	if !found {
		i--
	}
	return s.pieces[i], Extent{Off: s.starts[i], Len: s.starts[i+1] - s.starts[i]}
}

// ReadAt keeps the rules of io.ReaderAt.
func (s *Pieces) ReadAt(p []byte, off int64) (int, error) {
	return ReadRuns(p, off, s.Size(), func(p []byte, off int64) (int, error) {
		piece, at := s.At(off)
		p = p[:min(int64(len(p)), at.End()-off)]
		return piece.ReadAt(p, off-at.Off)
	})
}

// Extent returns the run that starts at off, up to the end of the piece.
func (s *Pieces) Extent(off int64) (Extent, error) {
	piece, at := s.At(off)
	e, err := piece.Extent(off - at.Off)
	return Extent{Off: off, Len: min(e.Len, at.End()-off), Kind: e.Kind}, err
}

// Locate asks the piece.
func (s *Pieces) Locate(off int64) (Place, error) {
	piece, at := s.At(off)
	l, ok := piece.(Locator)
	if !ok {
		return Place{}, errors.ErrUnsupported
	}
	p, err := l.Locate(off - at.Off)
	p.Off, p.Len = off, min(p.Len, at.End()-off)
	return p, err
}

// FilePiece is a piece whose file holds its bytes one to one, from an offset on.
type FilePiece struct {
	File     storage.File
	Name     string // of the file
	Off, Len int64
}

// Locate tells where it lies.
func (f FilePiece) Locate(off int64) (Place, error) {
	return Place{Extent{Off: off, Len: f.Len - off}, f.Name, f.Off + off}, nil
}

// ReadAt fills p, which lies inside of the piece.
func (f FilePiece) ReadAt(p []byte, off int64) (int, error) {
	return len(p), ReadFull(f.File, p, f.Off+off)
}

// Extent returns the run at off.
func (f FilePiece) Extent(off int64) (Extent, error) {
	e, err := FileExtent(f.File, f.Off+off, f.Off+f.Len)
	e.Off = off
	return e, err
}

// MaxPieces bounds how many files a disk may be in.
const MaxPieces = 9999

// Split makes a disk of pieces of one length, the last one of what remains. begin starts each piece; names are the files
// of the image in the order in which they get their names, and last, which may be nil, makes those that are not of a piece
// when all pieces are on stable storage.
func Split(t Target, length int64, begin func(i int, size int64) (Writer, error), names []string, last func() error) (Writer, error) {
	w := &split{target: t, length: length, names: names, last: last}
	count := (t.Size + length - 1) / length
	if count > MaxPieces {
		return nil, Unsupported("a disk of %d bytes in %d pieces of %d: choose larger ones", t.Size, count, length)
	}
	for i := range count {
		piece, err := begin(int(i), min(length, t.Size-i*length))
		if err != nil {
			return nil, errors.Join(fmt.Errorf("beginning piece %d: %w", i+1, err), w.Close())
		}
		w.pieces = append(w.pieces, piece)
	}
	return w, nil
}

type split struct {
	target Target
	length int64
	pieces []Writer
	names  []string
	last   func() error
}

// each calls do for the part of a range in each piece, with its offset in the piece.
func (w *split) each(off, n int64, do func(piece Writer, at, off, n int64) error) error {
	if err := CheckRange(off, n, w.target.Size); err != nil {
		return err
	}
	for end := off + n; off < end; {
		i := off / w.length
		part := min(end, (i+1)*w.length) - off
		if err := do(w.pieces[i], off-i*w.length, off, part); err != nil {
			return fmt.Errorf("in piece %d: %w", i+1, err)
		}
		off += part
	}
	return nil
}

func (w *split) WriteAt(p []byte, off int64) (done int, err error) {
	err = w.each(off, int64(len(p)), func(piece Writer, at, _, n int64) error {
		k, err := piece.WriteAt(p[done:done+int(n)], at)
		done += k
		return err
	})
	return done, err
}

func (w *split) Zero(off, n int64) error {
	return w.each(off, n, func(piece Writer, at, _, n int64) error { return piece.Zero(at, n) })
}

func (w *split) Place(off, n int64) error {
	return w.each(off, n, func(piece Writer, at, _, n int64) error {
		if p, ok := piece.(Placer); ok {
			return p.Place(at, n)
		}
		return nil
	})
}

func (w *split) Commit(ctx context.Context) error {
	for i, piece := range w.pieces {
		if err := piece.Commit(ctx); err != nil {
			return fmt.Errorf("completing piece %d: %w", i+1, err)
		}
	}
	if w.last != nil {
		if err := w.last(); err != nil {
			return err
		}
	}
	return nil
}

// Locate asks the piece.
func (w *split) Locate(off int64) (Place, error) {
	i := off / w.length
	l, ok := w.pieces[i].(Locator)
	if !ok {
		return Place{}, errors.ErrUnsupported
	}
	p, err := l.Locate(off - i*w.length)
	p.Off = off
	return p, err
}

func (w *split) Checkpoint() error {
	for i, piece := range w.pieces {
		if err := piece.Checkpoint(); err != nil {
			return fmt.Errorf("in piece %d: %w", i+1, err)
		}
	}
	return nil
}

func (w *split) Resumed() error {
	for i, piece := range w.pieces {
		if r, ok := piece.(Resumer); ok {
			if err := r.Resumed(); err != nil {
				return fmt.Errorf("in piece %d: %w", i+1, err)
			}
		}
	}
	return nil
}

func (w *split) Close() error {
	var err error
	for _, piece := range w.pieces {
		err = errors.Join(err, piece.Close())
	}
	return err
}

func (w *split) Files() []string { return w.names }
