package adapt

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

// blockSize is what is kept at once of what is written, in bytes.
const blockSize = 4096

// Overlay is a disk that is changed in a scratch file alone: what was written reads from there, and everything else from below. It is safe for concurrent use. Make one with
// NewOverlay, and close it.
type Overlay struct {
	below inspect.Disk
	file  *os.File // has the blocks that were written, in the order in which they were first

	mu     sync.RWMutex
	blocks map[int64]int64 // where each lies there, by their numbers on the disk
}

// NewOverlay makes one whose scratch file lies in a folder of this computer. It has no name: when the process ends, it is gone.
func NewOverlay(below inspect.Disk, dir string) (*Overlay, error) {
	file, err := os.CreateTemp(dir, "changed-")
	if err != nil {
		return nil, fmt.Errorf("making the file for what is changed: %w", err)
	}
	if err := os.Remove(file.Name()); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &Overlay{below: below, file: file, blocks: map[int64]int64{}}, nil
}

// Close drops what was written.
func (o *Overlay) Close() error { return o.file.Close() }

// Size is that of the disk.
func (o *Overlay) Size() int64 { return o.below.Size() }

// each calls do with the parts of a range that lie in one block each.
func each(p []byte, off int64, do func(block, in int64, p []byte) error) error {
	for len(p) > 0 {
		in := off % blockSize
		n := min(blockSize-in, int64(len(p)))
		if err := do(off/blockSize, in, p[:n]); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// ReadAt reads from the disk as it is now.
func (o *Overlay) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > o.Size() {
		return 0, io.EOF
	}
	n := min(int64(len(p)), o.Size()-off)
	o.mu.RLock()
	defer o.mu.RUnlock()
	if k, err := o.below.ReadAt(p[:n], off); int64(k) < n {
		return k, err
	}
	err := each(p[:n], off, func(block, in int64, p []byte) error {
		at, ok := o.blocks[block]
		if !ok {
			return nil
		}
		_, err := o.file.ReadAt(p, at+in)
		return err
	})
	if err != nil {
		return 0, err
	}
	if n < int64(len(p)) {
		return int(n), io.EOF
	}
	return int(n), nil
}

// WriteAt writes to the scratch file.
func (o *Overlay) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > o.Size() {
		return 0, errors.New("behind the end of the disk")
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	err := each(p, off, func(block, in int64, p []byte) error {
		at, ok := o.blocks[block]
		if !ok {
			at = int64(len(o.blocks)) * blockSize
			if int64(len(p)) < blockSize {
				whole := make([]byte, blockSize)
				n := min(blockSize, o.Size()-block*blockSize)
				if k, err := o.below.ReadAt(whole[:n], block*blockSize); int64(k) < n {
					return err
				}
				if _, err := o.file.WriteAt(whole, at); err != nil {
					return err
				}
			}
			o.blocks[block] = at
		}
		_, err := o.file.WriteAt(p, at+in)
		return err
	})
	if err != nil {
		return 0, err
	}
	return len(p), nil
}

// Touched tells whether something of a range was written to.
func (o *Overlay) Touched(off, length int64) bool {
	o.mu.RLock()
	defer o.mu.RUnlock()
	if length/blockSize > int64(len(o.blocks)) {
		for block := range o.blocks {
			if block*blockSize < off+length && (block+1)*blockSize > off {
				return true
			}
		}
		return false
	}
	for block := off / blockSize; block*blockSize < off+length; block++ {
		if _, ok := o.blocks[block]; ok {
			return true
		}
	}
	return false
}

// Changed calls each with the blocks that differ from what is below, ascending, by their offsets: only what was written can, and only what is another one is told. It fails where
// one cannot be read, and as each does.
func (o *Overlay) Changed(each func(off int64, block []byte) error) error {
	o.mu.RLock()
	numbers := slices.Sorted(maps.Keys(o.blocks))
	o.mu.RUnlock()
	was, now := make([]byte, blockSize), make([]byte, blockSize)
	for _, block := range numbers {
		off := block * blockSize
		n := min(blockSize, o.Size()-off)
		if k, err := o.ReadAt(now[:n], off); int64(k) < n {
			return fmt.Errorf("reading what was changed at offset %d: %w", off, err)
		}
		if k, err := o.below.ReadAt(was[:n], off); int64(k) < n {
			return fmt.Errorf("reading what was below at offset %d: %w", off, err)
		}
		if slices.Equal(was[:n], now[:n]) {
			continue
		}
		if err := each(off, now[:n]); err != nil {
			return err
		}
	}
	return nil
}

// Over is the disk as it is now, of the reader that lies below. The caller closes both.
func (o *Overlay) Over(below disk.Reader) disk.Reader {
	o.mu.RLock()
	defer o.mu.RUnlock()
	return &over{Reader: below, overlay: o, touched: slices.Sorted(maps.Keys(o.blocks))}
}

// over is a reader with what was written over it.
type over struct {
	disk.Reader
	overlay *Overlay
	touched []int64 // numbers of blocks
}

func (r *over) ReadAt(p []byte, off int64) (int, error) { return r.overlay.ReadAt(p, off) }

func (r *over) Close() error { return nil }

// Extent is data where something was written.
func (r *over) Extent(off int64) (disk.Extent, error) {
	e, err := r.Reader.Extent(off)
	if err != nil {
		return e, err
	}
	block := off / blockSize
	i, written := slices.BinarySearch(r.touched, block)
	end := r.Size()
	if !written {
		if i < len(r.touched) {
			end = r.touched[i] * blockSize
		}
		e.Len = min(e.Len, end-off)
		return e, nil
	}
	for ; i < len(r.touched) && r.touched[i] == block; i++ {
		block++
	}
	return disk.Extent{Off: off, Len: min(block*blockSize, end) - off, Kind: disk.Data}, nil
}

// Leaves are those of the disk as it is now, by those of what is below.
func (o *Overlay) Leaves(below *fingerprint.Leaves) (*fingerprint.Leaves, error) {
	out := fingerprint.NewLeaves(o.Size())
	b := make([]byte, fingerprint.LeafSize)
	for i := range out.Total() {
		off := i * fingerprint.LeafSize
		n := min(fingerprint.LeafSize, o.Size()-off)
		if !o.Touched(off, n) {
			out.Append(below.At(i))
			continue
		}
		if k, err := o.ReadAt(b[:n], off); int64(k) < n {
			return nil, fmt.Errorf("reading what was changed at offset %d: %w", off, err)
		}
		out.Append(fingerprint.Leaf(b[:n]))
	}
	return out, nil
}
