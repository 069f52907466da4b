package disk

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/storage"
)

// VerbatimFile is one of the files that are copied as they are.
type VerbatimFile struct {
	Name string
	Size int64 // in bytes
	// Thick tells that it takes all of its room.
	Thick bool
}

// verbatimStep is what each file begins at a multiple of, so that no leaf of a fingerprint speaks of two.
const verbatimStep = 1 << 20

// starts are the offsets of the files, one behind the other, and the end of the last.
func starts(files []VerbatimFile) []int64 {
	at := make([]int64, len(files)+1)
	for i, f := range files {
		end := at[i] + f.Size
		if i < len(files)-1 {
			end = (end + verbatimStep - 1) / verbatimStep * verbatimStep
		}
		at[i+1] = end
	}
	return at
}

// VerbatimSize is the length of the files, one behind the other.
func VerbatimSize(files []VerbatimFile) int64 { return starts(files)[len(files)] }

// OpenVerbatim opens files as if they were one disk: one behind the other, each from a whole mebibyte on. So whatever copies and proves
// disks does it with files, byte for byte. A single raw file is the same disk either way.
func OpenVerbatim(folder storage.Folder, files []VerbatimFile) (Reader, error) {
	v := &verbatim{folder: folder, files: files}
	at := starts(files)
	for i, f := range files {
		if f.Size == 0 {
			continue
		}
		file, err := folder.Open(f.Name)
		if err != nil {
			return nil, errors.Join(err, v.Close())
		}
		v.open = append(v.open, file)
		v.Add(FilePiece{File: file, Name: f.Name, Len: f.Size}, f.Size)
		if gap := at[i+1] - at[i] - f.Size; gap > 0 {
			v.Add(nothing(gap), gap)
		}
	}
	return v, nil
}

// verbatim reads files.
type verbatim struct {
	Pieces
	folder storage.Folder
	files  []VerbatimFile
	open   []storage.File
}

// File is that of a single one, which can be shared.
func (v *verbatim) File() storage.File {
	if len(v.open) == 1 && len(v.files) == 1 {
		return v.open[0]
	}
	return nil
}

func (v *verbatim) Describe() Description {
	d := Description{VirtualSize: v.Size()}
	for _, f := range v.files {
		d.Files = append(d.Files, f.Name)
	}
	return d
}

func (v *verbatim) Close() error {
	var err error
	for _, f := range v.open {
		err = errors.Join(err, f.Close())
	}
	return err
}

// nothing is a piece of zeros between two files.
type nothing int64

func (n nothing) ReadAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}

func (n nothing) Extent(off int64) (Extent, error) {
	return Extent{Off: off, Len: int64(n) - off, Kind: Hole}, nil
}

func (n nothing) Locate(off int64) (Place, error) {
	return Place{Extent: Extent{Off: off, Len: int64(n) - off, Kind: Hole}}, nil
}

// Verbatim is the form of files that are copied as they are. It is in no registry: nothing is recognised as it.
func Verbatim(files []VerbatimFile) Format {
	return Format{Name: "files", Create: func(t Target) (Writer, error) {
		w := &verbatimWriter{at: starts(files)}
		for _, f := range files {
			part := t
			part.Name, part.Size = f.Name, f.Size
			flat, err := CreateFlat(part, f.Thick, nil)
			if err != nil {
				return nil, errors.Join(err, w.Close())
			}
			w.parts, w.names = append(w.parts, flat), append(w.names, f.Name)
		}
		return w, nil
	}}
}

// verbatimWriter writes files.
type verbatimWriter struct {
	parts []Writer
	names []string
	at    []int64
}

// each calls do for the part of a range in each file, with its offset in the file. What lies between two files is nothing.
func (w *verbatimWriter) each(off, n int64, do func(part Writer, at, off, n int64) error) error {
	size := w.at[len(w.at)-1]
	if err := CheckRange(off, n, size); err != nil {
		return err
	}
	for end := off + n; off < end; {
		i := w.part(off)
		part := min(end, w.at[i+1]) - off
		if inside := min(part, w.sizeOf(i)-(off-w.at[i])); inside > 0 {
			if err := do(w.parts[i], off-w.at[i], off, inside); err != nil {
				return fmt.Errorf("in %s: %w", w.names[i], err)
			}
		}
		off += part
	}
	return nil
}

// part is the number of the file that an offset lies in.
func (w *verbatimWriter) part(off int64) int {
	i, found := slices.BinarySearch(w.at, off)
	if !found {
		return i - 1
	}
	for w.at[i+1] == off { // empty files
		i++
	}
	return i
}

func (w *verbatimWriter) sizeOf(i int) int64 { return w.parts[i].(*flat).target.Size }

func (w *verbatimWriter) WriteAt(p []byte, off int64) (int, error) {
	err := w.each(off, int64(len(p)), func(part Writer, at, from, n int64) error {
		_, err := part.WriteAt(p[from-off:from-off+n], at)
		return err
	})
	if err != nil {
		return 0, err
	}
	return len(p), nil
}

func (w *verbatimWriter) Zero(off, n int64) error {
	return w.each(off, n, func(part Writer, at, _, n int64) error { return part.Zero(at, n) })
}

// Locate tells where it lies.
func (w *verbatimWriter) Locate(off int64) (Place, error) {
	i := w.part(off)
	if in := off - w.at[i]; in < w.sizeOf(i) {
		return Place{Extent{Off: off, Len: w.sizeOf(i) - in}, w.names[i], in}, nil
	}
	return Place{Extent: Extent{Off: off, Len: w.at[i+1] - off, Kind: Hole}}, nil
}

// Clone shares the blocks of all files.
func (w *verbatimWriter) Clone(src Reader) error {
	from, ok := src.(*verbatim)
	if !ok || len(w.parts) != 1 || from.File() == nil {
		return errors.ErrUnsupported
	}
	return w.parts[0].(Cloner).Clone(src)
}

func (w *verbatimWriter) Commit(ctx context.Context) error {
	for i, part := range w.parts {
		if err := part.Commit(ctx); err != nil {
			return fmt.Errorf("completing %s: %w", w.names[i], err)
		}
	}
	return nil
}

func (w *verbatimWriter) Checkpoint() error {
	for i, part := range w.parts {
		if err := part.Checkpoint(); err != nil {
			return fmt.Errorf("in %s: %w", w.names[i], err)
		}
	}
	return nil
}

func (w *verbatimWriter) Close() error {
	var err error
	for _, part := range w.parts {
		err = errors.Join(err, part.Close())
	}
	return err
}

func (w *verbatimWriter) Files() []string { return w.names }
