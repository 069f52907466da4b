package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"bagaglio/core/storage"
)

// BlockWriter writes the blocks of a disk, in the order in which they are first heard of, one behind the other. A format
// embeds it and adds its structures at Commit. Where the target stands on a base, a block that is only written in part is
// filled with what the base has.
type BlockWriter struct {
	Target Target
	File   storage.File
	Block  int64 // length of a block
	First  int64 // file offset of the data of the first block that is stored
	Stride int64 // from the data of one stored block to that of the next
	// Begin is called once for each block that is stored, with the file offset of its data, before anything is written to
	// it. It may be nil.
	Begin func(off int64) error
	// Marks tells that the format can say of a block that it is zeros, without storing it.
	Marks bool

	mu     sync.Mutex
	places places
	stored int64
	done   bool
}

// NewBlockWriter creates the file of the target.
func NewBlockWriter(t Target, block, first, stride int64) (*BlockWriter, error) {
	file, err := t.NewFile(t.Name)
	if err != nil {
		return nil, err
	}
	w := &BlockWriter{Target: t, File: file, Block: block, First: first, Stride: stride, places: places{}}
	if t.Resumed() { // structures that Commit may have written already
		if err := wipe(file, 0, first); err != nil {
			return nil, errors.Join(fmt.Errorf("forgetting the structures of %s: %w", t.Name, err), w.Close())
		}
	}
	return w, nil
}

// Count is how many blocks the disk has.
func (w *BlockWriter) Count() int64 { return (w.Target.Size + w.Block - 1) / w.Block }

// Empty tells whether nothing is known of the blocks from number to the end of its run of 4096.
func (w *BlockWriter) Empty(number int64) bool { return w.places[number/run] == nil }

// Stored is how many blocks have a place.
func (w *BlockWriter) Stored() int64 { return w.stored }

// End is the file offset behind the last stored block.
func (w *BlockWriter) End() int64 {
	if w.stored == 0 {
		return w.First
	}
	return w.First + (w.stored-1)*w.Stride + w.Block
}

// Find returns the file offset of a block's data, or for a kind other than Data nothing. It is for Commit, when nothing
// writes any more.
func (w *BlockWriter) Find(number int64) (off int64, kind Kind) {
	if index, ok := w.places.find(number); ok {
		return w.First + index*w.Stride, Data
	}
	if w.places.zeroed(number) {
		return 0, Zero
	}
	return 0, Hole
}

// Reserve gives every block its place and takes the room for all.
func (w *BlockWriter) Reserve() error {
	if err := w.Place(0, w.Target.Size); err != nil || w.Target.Resumed() {
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
		if _, err := w.place(number, off, off+n); err != nil {
			return err
		}
	}
	return nil
}

// place returns the file offset of a block's data, and gives it a place if it has none. The disk's range from..to is going
// to be written; what else is in the block comes from the base.
func (w *BlockWriter) place(number, from, to int64) (int64, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if off, kind := w.Find(number); kind == Data {
		return off, nil
	}
	off := w.First + w.stored*w.Stride
	if w.Begin != nil {
		if err := w.Begin(off); err != nil {
			return 0, err
		}
	}
	start, end := number*w.Block, min((number+1)*w.Block, w.Target.Size)
	if w.Target.Base != nil && !w.Target.Replaying() && (from > start || to < end) && !w.places.zeroed(number) {
		if err := w.fill(off, start, end); err != nil {
			return 0, err
		}
	}
	w.places.add(number, w.stored)
	w.stored++
	return off, nil
}

// fill copies a range of the base to the file.
func (w *BlockWriter) fill(at, start, end int64) error {
	p := make([]byte, end-start)
	if err := ReadBelow(w.Target.Base, p, start); err != nil {
		return err
	}
	_, err := w.File.WriteAt(p, at)
	return err
}

func (w *BlockWriter) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckRange(off, int64(len(p)), w.Target.Size); err != nil {
		return 0, err
	}
	done := 0
	for done < len(p) {
		at := off + int64(done)
		data, err := w.place(at/w.Block, off, off+int64(len(p)))
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

// Zero leaves blocks that have no place without one where they read as zeros.
func (w *BlockWriter) Zero(off, n int64) error {
	if err := CheckRange(off, n, w.Target.Size); err != nil {
		return err
	}
	for n > 0 {
		part := min(n, w.Block-off%w.Block)
		if w.Target.Base == nil && w.empty(off/w.Block) {
			part = min(n, (off/w.Block/run+1)*run*w.Block-off)
		} else if err := w.zero(off, part); err != nil {
			return err
		}
		off, n = off+part, n-part
	}
	return nil
}

func (w *BlockWriter) empty(number int64) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.Empty(number)
}

// zero makes a range inside of one block read as zeros.
func (w *BlockWriter) zero(off, n int64) error {
	number := off / w.Block
	w.mu.Lock()
	data, kind := w.Find(number)
	known := kind == Zero || kind == Hole && ZeroBelow(w.Target.Base, off, n)
	whole := off == number*w.Block && (n == w.Block || off+n == w.Target.Size)
	if !known && kind == Hole && whole && w.Marks {
		w.places.setZeroed(number)
		known = true
	}
	w.mu.Unlock()
	if known {
		return nil
	}
	if kind == Hole {
		var err error
		if data, err = w.place(number, off, off+n); err != nil {
			return err
		}
	}
	return writeZeros(w.File, data+off%w.Block, n)
}

// ZeroBelow tells whether it is known that a base has nothing but zeros in a range; without a base there is nothing else.
func ZeroBelow(base Reader, off, n int64) bool {
	for base != nil && n > 0 && off < base.Size() {
		e, err := base.Extent(off)
		if err != nil || e.Kind == Data {
			return false
		}
		off, n = off+e.Len, n-e.Len
	}
	return true
}

// Part is a piece of a format's structures, and where in the file it goes.
type Part struct {
	What  string
	Bytes []byte
	Off   int64
}

// tablePiece is how many entries of a table are in memory at once.
const tablePiece = 1 << 16

// WriteTable writes a table at an offset of the file: an entry of 4 bytes for each block, in the byte order given. entry gets
// the file offset of the block's data, or -1 for one that is not stored. Runs of entries that are 0 are left as holes.
func (w *BlockWriter) WriteTable(at int64, order binary.ByteOrder, entry func(off int64) uint32) error {
	b := make([]byte, 4*tablePiece)
	for first := int64(0); first < w.Count(); first += tablePiece {
		n := min(tablePiece, w.Count()-first)
		used := uint32(0)
		for i := range n {
			off, kind := w.Find(first + i)
			if kind != Data {
				off = -1
			}
			e := entry(off)
			used |= e
			order.PutUint32(b[4*i:], e)
		}
		if used == 0 {
			continue
		}
		if _, err := w.File.WriteAt(b[:4*n], at+4*first); err != nil {
			return fmt.Errorf("writing the table of %s: %w", w.Target.Name, err)
		}
	}
	return nil
}

// Finish writes the structures, in that order, gives the file its length, and syncs all. It ends the writer.
func (w *BlockWriter) Finish(length int64, parts ...Part) error {
	if err := w.File.Truncate(length); err != nil {
		return fmt.Errorf("setting the length of %s: %w", w.Target.Name, err)
	}
	if err := WriteParts(w.File, w.Target.Name, parts...); err != nil {
		return err
	}
	if err := w.File.Sync(); err != nil {
		return fmt.Errorf("syncing %s: %w", w.Target.Name, err)
	}
	w.done = true
	return w.File.Close()
}

// WriteParts writes structures to the file of that name, in that order.
func WriteParts(file io.WriterAt, name string, parts ...Part) error {
	for _, p := range parts {
		if _, err := file.WriteAt(p.Bytes, p.Off); err != nil {
			return fmt.Errorf("writing the %s of %s: %w", p.What, name, err)
		}
	}
	return nil
}

// Locate tells where a block lies, or for how long nothing is stored.
func (w *BlockWriter) Locate(off int64) (Place, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	number := off / w.Block
	end := min((number+1)*w.Block, w.Target.Size)
	if w.Empty(number) {
		end = min((number/run+1)*run*w.Block, w.Target.Size)
	}
	at, kind := w.Find(number)
	for next := number + 1; kind == Data && end < w.Target.Size && end-off < joined; next++ { // so that it is read in large pieces
		if behind, kind := w.Find(next); kind != Data || behind != at+(next-number)*w.Block {
			break
		}
		end = min((next+1)*w.Block, w.Target.Size)
	}
	return Place{Extent{Off: off, Len: end - off, Kind: kind}, w.Target.Name, at + off%w.Block}, nil
}

// joined is up to which length Locate joins blocks that lie behind each other.
const joined = 8 << 20

// Checkpoint needs no more than the content on stable storage.
func (w *BlockWriter) Checkpoint() error { return w.File.Sync() }

// Resumed forgets the blocks behind those that it was told of.
func (w *BlockWriter) Resumed() error { return w.File.Truncate(w.End()) }

func (w *BlockWriter) Close() error {
	if w.done {
		return nil
	}
	w.done = true
	return w.File.Close()
}

// Files is the one file.
func (w *BlockWriter) Files() []string { return []string{w.Target.Name} }
