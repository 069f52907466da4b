// Package disk says what a virtual disk is: the bytes a guest sees, whatever the format that stores them. Formats
// register themselves here, each from a room of its own below this one, and are found by name or by their content.
package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"bagaglio/core/storage"
)

// Reader is an open virtual disk: the bytes a guest would see. It is safe for concurrent use.
type Reader interface {
	io.ReaderAt
	io.Closer
	// Size is the virtual size in bytes.
	Size() int64
	// Extent returns the run that starts at off, for 0 <= off < Size. It costs no reading of content.
	Extent(off int64) (Extent, error)
	Describe() Description
}

// Checker is a Reader that can walk its own tables and tell whether they agree with each other.
type Checker interface {
	// Check returns an error that wraps ErrDamaged and says where the tables disagree.
	Check(ctx context.Context) error
}

// Keeper is a Reader of an image that keeps states of its disk, opened in its present one.
type Keeper interface {
	// Kept returns them in the order in which the image has them. It fails with errors.ErrUnsupported for one that is too large to tell.
	Kept(ctx context.Context) ([]Kept, error)
}

// Kept is a state of a disk that its image keeps.
type Kept struct {
	Name string
	Room int64 // bytes of the image that it uses and no other state of the disk does
}

// Writer is a disk being made. Ranges may be written in any order, from several goroutines, and again, until Commit.
// Nothing that it leaves before Commit is a valid image. What is never written reads as zeros, or as the base of the target.
// One whose process ended before Commit is made again by [Resume], when it was written in guest order.
type Writer interface {
	io.WriterAt
	// Zero makes a range read as zeros.
	Zero(off, n int64) error
	// Commit completes the metadata and returns when everything is on stable storage.
	Commit(ctx context.Context) error
	// Checkpoint returns when what was written so far is on stable storage. It may be called while others write.
	Checkpoint() error
	// Close closes the files. What was written stays, without being an image, to be taken up again or removed. After Commit
	// it does nothing.
	Close() error
	// Files are the names of the files of the image, relative to the folder they were made in. The last one is the one
	// that makes the image openable.
	Files() []string
}

// Placer is a Writer that gives a range its place in the file when it first hears of it. Whoever writes from several
// goroutines calls Place in guest order before writing, so that the image is laid out in guest order all the same.
type Placer interface {
	Place(off, n int64) error
}

// Encoder is a Writer that stores blocks in a form which takes work to make. Instead of writing, a caller may encode blocks
// in several goroutines and append them in guest order, each once; it does one or the other.
type Encoder interface {
	// Unit is the length of a block in bytes, a power of two.
	Unit() int64
	// Encode appends to out what is to be stored for a block. Only the last one of the disk is shorter than the unit.
	Encode(out, block []byte) ([]byte, error)
	// Append stores what Encode made of the block at off.
	Append(encoded []byte, off int64) error
}

// Plain is a Reader of which a file holds the guest's bytes one to one, from its first byte on.
type Plain interface {
	// File is that file, nil when it is not so for this disk.
	File() storage.File
}

// Cloner is a Writer that can take over a whole disk without copying it.
type Cloner interface {
	// Clone shares the storage of src, or fails with errors.ErrUnsupported and has done nothing.
	Clone(src Reader) error
}

// Kind tells what an extent holds.
type Kind uint8

const (
	// Data is stored; it may be all zeros nevertheless.
	Data Kind = iota
	// Zero is known to be zeros.
	Zero
	// Hole is not stored and reads as zeros.
	Hole
)

func (k Kind) String() string { return [...]string{"data", "zero", "hole"}[k] }

// Extent is a run of a disk that is all of one kind, in bytes.
type Extent struct {
	Off, Len int64
	Kind     Kind
}

// End is the offset behind the extent.
func (e Extent) End() int64 { return e.Off + e.Len }

// Description tells what is known of a disk without reading its content. Sizes are in bytes.
type Description struct {
	Format      string   `json:"format"`
	Layout      string   `json:"layout"`
	Version     string   `json:"version,omitempty"`
	Creator     string   `json:"creator,omitempty"`
	Identifier  string   `json:"identifier,omitempty"`
	VirtualSize int64    `json:"virtual_size"`
	OtherSize   int64    `json:"other_size,omitempty"`  // by the geometry or by the field, which some hypervisors go by and VirtualSize is not
	BlockSize   int64    `json:"block_size,omitempty"`  // of the unit in which the format stores, 0 when there is none
	SectorSize  int64    `json:"sector_size,omitempty"` // as the guest sees it
	Files       []string `json:"files"`                 // what opens it first
	Base        string   `json:"base"`                  // as named in the image, empty without one
	Chain       []string `json:"chain"`                 // the files of all that it stands on, from the base down
	// Absolute are those of the images, this one and all that it stands on, which name their base by a path of their computer.
	Absolute  []Absolute `json:"absolute,omitempty"`
	Snapshots []string   `json:"snapshots"` // kept inside the image
	Dirty     bool       `json:"dirty"`     // was not closed properly
	Warnings  []string   `json:"warnings"`
}

// Absolute is an image that names its base by a path of their computer. File opens the image and Base what it stands on.
type Absolute struct {
	File string `json:"file"`
	Base string `json:"base"`
	Name string `json:"name"` // as in the image
}

// OpenedFirst are names of files of which the last one was opened, in the order of a Description.
func OpenedFirst(names []string) []string {
	last := len(names) - 1
	return append([]string{names[last]}, names[:last]...)
}

// StandOn notes in a description, which has its files, what the image stands on. name is as in the image.
func (d *Description) StandOn(base Reader, name string) {
	below := base.Describe()
	d.Base = storage.Printable(name)
	d.Chain = append(slices.Clone(below.Files), below.Chain...)
	d.Absolute = slices.Clone(below.Absolute)
	if path.IsAbs(name) && len(d.Files) > 0 && len(below.Files) > 0 {
		d.Absolute = append(d.Absolute, Absolute{File: d.Files[0], Base: below.Files[0], Name: name})
	}
	for _, w := range below.Warnings {
		d.Warnings = append(d.Warnings, fmt.Sprintf("in the base %s: %s", d.Base, w))
	}
}

// Errors that callers tell apart. Formats wrap them.
var (
	// ErrFormat means that the content is not of the format asked for.
	ErrFormat = errors.New("not an image of this format")
	// ErrNoFormat means that there is no format of that name.
	ErrNoFormat = errors.New("no such format")
	// ErrDamaged means that the format was recognised and its structure is broken.
	ErrDamaged = errors.New("the image is damaged")
	// ErrIncomplete means that files of the disk are missing or short. What wraps it wraps ErrDamaged too.
	ErrIncomplete = errors.New("a part of the disk is missing")
	// ErrUnsupported means that the image is whole but uses something that is not read or written here.
	ErrUnsupported = errors.New("not supported")
)

// Damaged returns an error that wraps ErrDamaged.
func Damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// Incomplete returns an error that wraps ErrIncomplete and ErrDamaged.
func Incomplete(format string, args ...any) error {
	return fmt.Errorf("%w: %w: %s", ErrDamaged, ErrIncomplete, fmt.Sprintf(format, args...))
}

// Unsupported returns an error that wraps ErrUnsupported.
func Unsupported(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrUnsupported, fmt.Sprintf(format, args...))
}

// MaxJoined bounds how many entries of its tables a Reader joins to one extent, so that a call ends soon. Extents joins the rest.
const MaxJoined = 1 << 16

// Extents calls each with the extents of r from first to last, neighbours of one kind joined.
func Extents(ctx context.Context, r Reader, each func(Extent) error) error {
	return ExtentsFrom(ctx, r, 0, each)
}

// ExtentsFrom does so from an offset on.
func ExtentsFrom(ctx context.Context, r Reader, off int64, each func(Extent) error) error {
	var run Extent
	for off < r.Size() {
		if err := ctx.Err(); err != nil {
			return err
		}
		e, err := r.Extent(off)
		if err != nil {
			return fmt.Errorf("looking at offset %d: %w", off, err)
		}
		if e.Off != off || e.Len <= 0 || e.End() > r.Size() {
			return fmt.Errorf("extent %+v at offset %d makes no sense", e, off)
		}
		off = e.End()
		if run.Len > 0 && run.Kind == e.Kind {
			run.Len += e.Len
			continue
		}
		if run.Len > 0 {
			if err := each(run); err != nil {
				return err
			}
		}
		run = e
	}
	if run.Len > 0 {
		return each(run)
	}
	return nil
}

// CheckRange returns an error when [off, off+n) does not lie inside a disk of the given size.
func CheckRange(off, n, size int64) error {
	if off < 0 || n < 0 || off > size-n {
		return fmt.Errorf("range of %d bytes at offset %d lies outside of the disk of %d bytes", n, off, size)
	}
	return nil
}

// ReadRuns fills p from offset off of a disk of the given size by calling read for each run of stored or empty bytes.
// read gets a part of p and its offset, and returns how much of it it filled. It keeps the rules of io.ReaderAt at the end
// of the disk.
func ReadRuns(p []byte, off, size int64, read func(p []byte, off int64) (int, error)) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("negative offset %d", off)
	}
	if off >= size {
		return 0, io.EOF
	}
	var short error
	if int64(len(p)) > size-off {
		p, short = p[:size-off], io.EOF
	}
	done := 0
	for done < len(p) {
		n, err := read(p[done:], off+int64(done))
		if err != nil { // then n says nothing: what was read in part is not content
			return done, fmt.Errorf("reading at offset %d: %w", off+int64(done), err)
		}
		done += n
	}
	return done, short
}

// ReadBelow fills p with what the base of an overlay has at off: zeros behind its end.
func ReadBelow(base Reader, p []byte, off int64) error {
	n := max(min(int64(len(p)), base.Size()-off), 0)
	clear(p[n:])
	if k, err := base.ReadAt(p[:n], off); int64(k) < n || err != nil && !errors.Is(err, io.EOF) && n > 0 {
		return fmt.Errorf("in the base: %w", err)
	}
	return nil
}

// ExtentBelow returns what a hole of an overlay is, seen through to its base.
func ExtentBelow(base Reader, hole Extent) (Extent, error) {
	if hole.Off >= base.Size() {
		return hole, nil
	}
	below, err := base.Extent(hole.Off)
	if err != nil {
		return hole, fmt.Errorf("in the base: %w", err)
	}
	below.Len = min(below.Len, hole.Len)
	return below, nil
}

// ReadFull fills p from f at off. Bytes behind the end of the file are damage: nothing there is made up.
func ReadFull(f io.ReaderAt, p []byte, off int64) error {
	n, err := f.ReadAt(p, off)
	if n == len(p) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return Damaged("the file ends at %d, but %d bytes are expected at offset %d: it is truncated, fetch it again", off+int64(n), len(p), off)
	}
	return err
}
