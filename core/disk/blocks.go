package disk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"bagaglio/core/storage"
)

// Blocks reads a disk that a format stores in blocks of one size, each found by its number.
type Blocks struct {
	File     storage.File
	FileSize int64
	Size     int64 // virtual
	Block    int64 // length of a block
	// Find returns the file offset of a block's data, or for a kind other than Data nothing.
	Find func(number int64) (off int64, kind Kind, err error)
	// Holes returns how many blocks from a number on are not stored, as far as that is told at once, or 0. A large disk
	// has millions of blocks, and mostly they are not. It may be nil.
	Holes func(number int64) int64
}

// Count is how many blocks the disk has. The last one may reach beyond its end.
func (b *Blocks) Count() int64 { return (b.Size + b.Block - 1) / b.Block }

// find is Find with the place checked: the part of the block that is in the disk lies in the file.
func (b *Blocks) find(number int64) (int64, Kind, error) {
	off, kind, err := b.Find(number)
	if err != nil || kind != Data {
		return 0, kind, err
	}
	if used := min(b.Block, b.Size-number*b.Block); off < 0 || off > b.FileSize-used {
		return 0, kind, Damaged("block %d is said to lie at offset %d, but the file ends at %d: it is truncated or its table is wrong", number, off, b.FileSize)
	}
	return off, kind, nil
}

func (b *Blocks) holes(number int64) int64 {
	if b.Holes == nil {
		return 0
	}
	return min(b.Holes(number), b.Count()-number)
}

// ReadAt keeps the rules of io.ReaderAt.
func (b *Blocks) ReadAt(p []byte, off int64) (int, error) {
	return ReadRuns(p, off, b.Size, func(p []byte, off int64) (int, error) {
		p = p[:min(int64(len(p)), b.Block-off%b.Block)]
		at, kind, err := b.find(off / b.Block)
		if err != nil {
			return 0, err
		}
		if kind != Data {
			clear(p)
			return len(p), nil
		}
		return len(p), ReadFull(b.File, p, at+off%b.Block)
	})
}

// Extent joins blocks of one kind.
func (b *Blocks) Extent(off int64) (Extent, error) {
	e := Extent{Off: off}
	next := off / b.Block
	for range MaxJoined {
		if next >= b.Count() {
			break
		}
		n, kind := b.holes(next), Hole
		if n == 0 {
			var err error
			if _, kind, err = b.find(next); err != nil {
				return e, err
			}
			n = 1
		}
		if e.Len > 0 && kind != e.Kind {
			break
		}
		next += n
		e.Kind = kind
		e.Len = min(next*b.Block, b.Size) - off
	}
	return e, nil
}

// Check walks the table: every block lies in the file and outside of the structures, and no two share bytes. In front of
// each block's data there are before bytes that belong to it.
func (b *Blocks) Check(ctx context.Context, before int64, structures ...Extent) error {
	var starts []int64
	for number := int64(0); number < b.Count(); number++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		if n := b.holes(number); n > 0 {
			number += n - 1
			continue
		}
		off, kind, err := b.find(number)
		if err != nil {
			return err
		}
		if kind != Data {
			continue
		}
		for _, s := range structures {
			if off-before < s.End() && off+b.Block > s.Off {
				return Damaged("block %d at offset %d lies over the structures of the format", number, off)
			}
		}
		starts = append(starts, off)
	}
	slices.Sort(starts)
	for i := 1; i < len(starts); i++ {
		if starts[i]-starts[i-1] < before+b.Block {
			return Damaged("two blocks share the bytes at offset %d", starts[i])
		}
	}
	return nil
}

// BlockWriter writes the blocks of such a disk, in the order in which they are first heard of, one behind the other. A
// format embeds it and adds its structures at Commit.
type BlockWriter struct {
	Target Target
	File   storage.File
	Block  int64 // length of a block
	First  int64 // file offset of the data of the first block that is stored
	Stride int64 // from the data of one stored block to that of the next
	// Begin is called once for each block that is stored, with the file offset of its data, before anything is written to
	// it. It may be nil.
	Begin func(off int64) error

	mu     sync.Mutex
	places map[int64]*[chunk]uint32 // for runs of blocks: which stored block it is, from 1
	stored int64
	done   bool
}

// chunk is how many blocks have their places kept together, so that a disk with little data takes little memory.
const chunk = 1 << 14

// NewBlockWriter creates the file of the target.
func NewBlockWriter(t Target, block, first, stride int64) (*BlockWriter, error) {
	file, err := t.Folder.Create(t.Name)
	if err != nil {
		return nil, fmt.Errorf("creating %s: %w", t.Name, err)
	}
	return &BlockWriter{Target: t, File: file, Block: block, First: first, Stride: stride, places: map[int64]*[chunk]uint32{}}, nil
}

// Count is how many blocks the disk has.
func (w *BlockWriter) Count() int64 { return (w.Target.Size + w.Block - 1) / w.Block }

// Empty tells whether no block from number to the end of its run of 16,384 has a place.
func (w *BlockWriter) Empty(number int64) bool { return w.places[number/chunk] == nil }

// Stored is how many blocks have a place.
func (w *BlockWriter) Stored() int64 { return w.stored }

// End is the file offset behind the last stored block.
func (w *BlockWriter) End() int64 {
	if w.stored == 0 {
		return w.First
	}
	return w.First + (w.stored-1)*w.Stride + w.Block
}

// Find returns the file offset of a block's data, and whether it is stored. It is for Commit, when nothing writes any more.
func (w *BlockWriter) Find(number int64) (off int64, stored bool) {
	places := w.places[number/chunk]
	if places == nil || places[number%chunk] == 0 {
		return 0, false
	}
	return w.First + int64(places[number%chunk]-1)*w.Stride, true
}

// Reserve gives every block its place and takes the room for all.
func (w *BlockWriter) Reserve() error {
	if err := w.Place(0, w.Target.Size); err != nil {
		return err
	}
	if a, ok := w.File.(storage.Allocator); ok {
		if err := a.Allocate(0, w.End()); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	return w.Zero(0, w.Target.Size)
}

// Place gives the blocks of a range their place in the file.
func (w *BlockWriter) Place(off, n int64) error {
	if err := CheckRange(off, n, w.Target.Size); err != nil {
		return err
	}
	for number := off / w.Block; number*w.Block < off+n; number++ {
		if _, err := w.place(number); err != nil {
			return err
		}
	}
	return nil
}

// place returns the file offset of a block's data, and gives it a place if it has none.
func (w *BlockWriter) place(number int64) (int64, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if off, ok := w.Find(number); ok {
		return off, nil
	}
	off := w.First + w.stored*w.Stride
	if w.Begin != nil {
		if err := w.Begin(off); err != nil {
			return 0, err
		}
	}
	if w.places[number/chunk] == nil {
		w.places[number/chunk] = new([chunk]uint32)
	}
	w.stored++
	w.places[number/chunk][number%chunk] = uint32(w.stored)
	return off, nil
}

func (w *BlockWriter) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckRange(off, int64(len(p)), w.Target.Size); err != nil {
		return 0, err
	}
	done := 0
	for done < len(p) {
		at := off + int64(done)
		data, err := w.place(at / w.Block)
		if err != nil {
			return done, err
		}
		n, err := w.File.WriteAt(p[done:min(len(p), done+int(w.Block-at%w.Block))], data+at%w.Block)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// Zero leaves blocks that have no place without one: they read as zeros.
func (w *BlockWriter) Zero(off, n int64) error {
	if err := CheckRange(off, n, w.Target.Size); err != nil {
		return err
	}
	for n > 0 {
		part := min(n, w.Block-off%w.Block)
		w.mu.Lock()
		data, stored := w.Find(off / w.Block)
		w.mu.Unlock()
		if stored {
			if err := writeZeros(w.File, data+off%w.Block, part); err != nil {
				return err
			}
		}
		off, n = off+part, n-part
	}
	return nil
}

// Part is a piece of a format's structures, and where in the file it goes.
type Part struct {
	What  string
	Bytes []byte
	Off   int64
}

// Finish writes the structures, in that order, gives the file its length, and syncs all. It ends the writer.
func (w *BlockWriter) Finish(length int64, parts ...Part) error {
	if err := w.File.Truncate(length); err != nil {
		return fmt.Errorf("setting the length of %s: %w", w.Target.Name, err)
	}
	for _, p := range parts {
		if _, err := w.File.WriteAt(p.Bytes, p.Off); err != nil {
			return fmt.Errorf("writing the %s of %s: %w", p.What, w.Target.Name, err)
		}
	}
	if err := w.File.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.Target.Name, err)
	}
	w.done = true
	return w.File.Close()
}

func (w *BlockWriter) Abort() error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.File.Close(), w.Target.Folder.Remove(w.Target.Name))
}

// Files is the one file.
func (w *BlockWriter) Files() []string { return []string{w.Target.Name} }
