package disk

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"bagaglio/core/storage"
)

// Blocks reads a disk that a format stores in blocks of one size, each found by its number.
type Blocks struct {
	File     storage.File
	Name     string // of the file
	FileSize int64
	Size     int64 // virtual
	Block    int64 // length of a block
	// Find returns the file offset of a block's data, or for a kind other than Data nothing.
	Find func(number int64) (off int64, kind Kind, err error)
	// Base is what shows where a block is not stored. Nil without one.
	Base Reader
	// Sectors tells whether the bytes of a stored block from in on are stored too, or only in the base, and for how many
	// that holds. Nil when all of a block is stored.
	Sectors func(number, in int64) (present bool, n int64, err error)
	// Holes returns how many blocks from a number on are not stored, as far as that is told at once, or 0. A large disk
	// has millions of blocks, and mostly they are not. It may be nil.
	Holes func(number int64) int64
	// Thick is the file of an image that was stored whole from the start, of which much may be holes. Nil for any other.
	Thick storage.File
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
		return 0, kind, Damaged(
			"block %d is said to lie at offset %d, but the file ends at %d: it is truncated or its table is wrong",
			number,
			off,
			b.FileSize,
		)
	}
	return off, kind, nil
}

func (b *Blocks) holes(number int64) int64 {
	if b.Holes == nil {
		return 0
	}
	return min(b.Holes(number), b.Count()-number)
}

// at returns what is at an offset, for as long as one entry of the tables tells; for Data with its offset in the file.
func (b *Blocks) at(off int64) (at int64, e Extent, err error) {
	number, in := off/b.Block, off%b.Block
	e = Extent{Off: off, Len: min(b.Block-in, b.Size-off)}
	if at, e.Kind, err = b.find(number); err != nil || e.Kind != Data || b.Sectors == nil {
		return at + in, e, err
	}
	present, n, err := b.Sectors(number, in)
	if e.Len = min(e.Len, n); !present {
		e.Kind = Hole
	}
	return at + in, e, err
}

// ReadAt keeps the rules of io.ReaderAt.
func (b *Blocks) ReadAt(p []byte, off int64) (int, error) {
	return ReadRuns(p, off, b.Size, func(p []byte, off int64) (int, error) {
		at, e, err := b.at(off)
		if err != nil {
			return 0, err
		}
		p = p[:min(int64(len(p)), e.Len)]
		switch {
		case e.Kind == Data:
			return len(p), ReadFull(b.File, p, at)
		case e.Kind == Hole && b.Base != nil:
			return len(p), ReadBelow(b.Base, p, off)
		}
		clear(p)
		return len(p), nil
	})
}

// Locate tells where a block lies, or for how long nothing is stored.
func (b *Blocks) Locate(off int64) (Place, error) {
	if n := b.holes(off / b.Block); n > 0 {
		return Place{Extent{Off: off, Len: min((off/b.Block+n)*b.Block, b.Size) - off, Kind: Hole}, b.Name, 0}, nil
	}
	at, e, err := b.at(off)
	return Place{e, b.Name, at}, err
}

// Extent joins blocks of one kind.
func (b *Blocks) Extent(off int64) (Extent, error) {
	run := Extent{Off: off}
	for range MaxJoined {
		at := run.End()
		if at >= b.Size {
			break
		}
		e := Extent{Off: at, Kind: Hole}
		if n := b.holes(at / b.Block); n > 0 {
			e.Len = min((at/b.Block+n)*b.Block, b.Size) - at
		} else {
			place, found, err := b.at(at)
			if err == nil && found.Kind == Data && b.Thick != nil {
				found, err = WithHoles(b.Thick, found, place)
			}
			if e = found; err != nil {
				return run, err
			}
		}
		if run.Len > 0 && e.Kind != run.Kind {
			break
		}
		run.Kind, run.Len = e.Kind, run.Len+e.Len
	}
	if run.Kind == Hole && b.Base != nil {
		return ExtentBelow(b.Base, run)
	}
	return run, nil
}

// Close closes the file, and the base if there is one.
func (b *Blocks) Close() error {
	err := b.File.Close()
	if b.Base != nil {
		err = errors.Join(err, b.Base.Close())
	}
	return err
}

// Check walks the table: every block lies in the file and outside of the structures, and no two share bytes. In front of
// each block's data there are before bytes that belong to it.
func (b *Blocks) Check(ctx context.Context, before int64, structures ...Extent) error {
	var taken []Extent // of the file, neighbours joined: mostly the blocks lie in order
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
		if last := len(taken) - 1; last >= 0 && taken[last].End() == off-before {
			taken[last].Len += before + b.Block
		} else {
			taken = append(taken, Extent{Off: off - before, Len: before + b.Block})
		}
	}
	slices.SortFunc(taken, func(a, b Extent) int { return cmp.Compare(a.Off, b.Off) })
	for i := 1; i < len(taken); i++ {
		if taken[i].Off < taken[i-1].End() {
			return Damaged("two blocks share the bytes at offset %d", taken[i].Off)
		}
	}
	if c, ok := b.Base.(Checker); ok {
		return c.Check(ctx)
	}
	return nil
}
