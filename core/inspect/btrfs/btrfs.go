// Package btrfs reads btrfs that lies on one device (the kernel's documentation of its on-disk format).
package btrfs

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strings"
	"sync"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
)

func init() { inspect.Register(open, "btrfs") }

// Facts of the superblock, which lies at three places.
const (
	superblock = 64 << 10
	superSize  = 4096
	reserved   = 1 << 20 // at the start of a device, where nothing else lies

	atMagic                 = 64
	atRootTree, atChunkTree = 80, 88
	atLogTree               = 96
	atTotal, atUsed         = 112, 120
	atDevices               = 136
	atSector, atNode        = 144, 148
	atArrayLen, atArray     = 160, 811
	atSumType               = 196
	atLabel, labelLen       = 299, 256
	maxArray                = 2048
	sumLen                  = 32
	magic                   = "_BHRfS_M"
	leastNode, mostNode     = 4 << 10, 64 << 10
	crc                     = 0
)

// copies are where the superblock lies again.
var copies = []int64{64 << 20, 256 << 30}

// Facts of chunks: how logical addresses become places on the device. Kinds other than one copy or two on one device need more devices.
const (
	chunkItem               = 228
	atChunkLen, atChunkType = 0, 24
	atStripes, stripes      = 44, 48
	stripeLen               = 32
	atStripeOffset          = 8
	twice                   = 1 << 5
	manyDevices             = 1<<3 | 1<<4 | 1<<6 | 1<<7 | 1<<8 | 1<<9 | 1<<10
	maxChunks               = 1 << 20
)

var (
	le         = binary.LittleEndian
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
)

// chunk is a range of logical addresses, and where its copies lie.
type chunk struct {
	logical, length int64
	at              []int64
}

// volume is an open filesystem.
type volume struct {
	r             io.ReaderAt
	size          int64
	total, used   int64
	node          int64 // bytes
	sums          bool  // of a kind that is known
	devices       uint64
	logged        bool
	root, extents uint64 // trees, by the logical addresses of their roots
	chunks        []chunk
	label         string

	// trees are those that files lie in, by their numbers in nodes: the first one, and subvolumes as they are come to.
	mu    sync.Mutex
	trees []uint64 // their IDs
	roots []uint64 // the logical addresses of their roots
}

// open reads the superblock, the chunks and the roots of trees.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	b := make([]byte, superSize)
	if _, err := r.ReadAt(b, superblock); err != nil {
		return nil, err
	}
	u64 := func(at int) uint64 { return le.Uint64(b[at:]) }
	v := &volume{
		r: r, size: size, total: int64(min(u64(atTotal), 1<<62)), used: int64(min(u64(atUsed), 1<<62)), node: int64(le.Uint32(b[atNode:])),
		sums: le.Uint16(b[atSumType:]) == crc, devices: u64(atDevices), logged: u64(atLogTree) != 0,
	}
	v.label, _, _ = strings.Cut(string(b[atLabel:atLabel+labelLen]), "\x00")
	if string(b[atMagic:atMagic+len(magic)]) != magic || v.node < leastNode || v.node > mostNode || v.node&(v.node-1) != 0 {
		return nil, disk.Damaged("nodes of %d bytes", v.node)
	}
	if v.sums && crc32.Checksum(b[sumLen:], castagnoli) != le.Uint32(b) {
		return nil, disk.Damaged("the checksum of its superblock is wrong")
	}
	if v.devices != 1 {
		return nil, disk.Unsupported("it lies on %d devices", v.devices)
	}
	if err := v.firstChunks(b); err != nil {
		return nil, err
	}
	if err := v.allChunks(u64(atChunkTree)); err != nil {
		return nil, fmt.Errorf("reading where it lies: %w", err)
	}
	v.root = u64(atRootTree)
	var err error
	if v.extents, err = v.tree(extentTree); err != nil {
		return nil, err
	}
	first, err := v.tree(firstTree)
	v.trees, v.roots = []uint64{firstTree}, []uint64{first}
	return v, err
}

// firstChunks are those in the superblock itself, which the others are found by.
func (v *volume) firstChunks(b []byte) error {
	n := le.Uint32(b[atArrayLen:])
	if n > maxArray {
		return disk.Damaged("%d bytes of chunks in its superblock", n)
	}
	for left := b[atArray : atArray+int(n)]; len(left) > 0; {
		if len(left) < keySize+stripes+stripeLen {
			return disk.Damaged("a chunk of %d bytes in its superblock", len(left))
		}
		k := readKey(left)
		used, err := v.addChunk(k, left[keySize:])
		if err != nil {
			return err
		}
		left = left[keySize+used:]
	}
	return nil
}

// allChunks reads the tree of them.
func (v *volume) allChunks(root uint64) error {
	var found []chunk
	known := v.chunks
	err := v.walk(context.Background(), root, key{}, func(k key, data []byte) (bool, error) {
		if k.kind != chunkItem {
			return true, nil
		}
		v.chunks = nil
		_, err := v.addChunk(k, data)
		found = append(found, v.chunks...)
		v.chunks = known
		if len(found) > maxChunks {
			err = disk.Damaged("more than %d chunks", maxChunks)
		}
		return true, err
	})
	if err != nil {
		return err
	}
	slices.SortFunc(found, func(a, b chunk) int { return cmp.Compare(a.logical, b.logical) })
	v.chunks = found
	return nil
}

// addChunk reads one, and returns how long what describes it is.
func (v *volume) addChunk(k key, b []byte) (int, error) {
	if len(b) < stripes+stripeLen {
		return 0, disk.Damaged("a chunk of %d bytes", len(b))
	}
	c := chunk{logical: int64(k.offset), length: int64(le.Uint64(b[atChunkLen:]))}
	kind, n := le.Uint64(b[atChunkType:]), int(le.Uint16(b[atStripes:]))
	switch {
	case kind&manyDevices != 0 || n > 2 || n == 2 && kind&twice == 0:
		return 0, disk.Unsupported("it is spread over devices (%#x)", kind)
	case n == 0 || len(b) < stripes+n*stripeLen || c.length <= 0 || c.logical < 0 || c.length > 1<<56 || c.logical > 1<<60:
		return 0, disk.Damaged("a chunk of %d bytes at %d in %d stripes", c.length, c.logical, n)
	}
	for i := range n {
		at := le.Uint64(b[stripes+i*stripeLen+atStripeOffset:])
		if at > uint64(v.size) || c.length > v.size-int64(at) {
			return 0, disk.Damaged("a chunk behind its end, at %d", at)
		}
		c.at = append(c.at, int64(at))
	}
	v.chunks = append(v.chunks, c)
	return stripes + n*stripeLen, nil
}

// places are where so many bytes at a logical address lie.
func (v *volume) places(logical, n int64) ([]int64, error) {
	i, found := slices.BinarySearchFunc(v.chunks, logical, func(c chunk, at int64) int {
		switch {
		case c.logical > at:
			return 1
		case c.logical+c.length <= at:
			return -1
		}
		return 0
	})
	if !found || n < 0 || n > v.chunks[i].logical+v.chunks[i].length-logical {
		return nil, disk.Damaged("%d bytes at the address %d, which lies nowhere", n, logical)
	}
	var all []int64
	for _, at := range v.chunks[i].at {
		all = append(all, at+logical-v.chunks[i].logical)
	}
	return all, nil
}

// Label is what it is called.
func (v *volume) Label() string { return v.label }

// About says how full it is. What it counts in use has to be what its tree of extents has.
func (v *volume) About() inspect.About {
	a := inspect.About{Size: min(v.total, v.size)}
	var counted int64
	err := v.taken(context.Background(), 0, 1<<62, func(_, n int64) error { counted += n; return nil })
	for _, c := range v.chunks { // two copies take twice the room
		if len(c.at) > 1 && err == nil {
			err = v.taken(context.Background(), c.logical, c.logical+c.length, func(_, n int64) error { a.Used += n; return nil })
		}
	}
	a.Used += counted + reserved
	switch {
	case err != nil:
		a.Doubt = err.Error()
	case counted != v.used:
		a.Doubt = fmt.Sprintf("it says that %d bytes are used, and its extents have %d", v.used, counted)
	case v.logged:
		a.Doubt = "it was not unmounted, and its log has changes that its trees do not"
	}
	return a
}

// taken calls each with the extents from an address on, up to another one.
func (v *volume) taken(ctx context.Context, from, to int64, each func(at, n int64) error) error {
	return v.walk(ctx, v.extents, key{objectid: uint64(from)}, func(k key, _ []byte) (bool, error) {
		if k.objectid >= uint64(to) {
			return false, nil
		}
		switch k.kind {
		case extentItem:
			if k.offset > uint64(v.size) {
				return false, disk.Damaged("an extent of %d bytes", k.offset)
			}
			return true, each(int64(k.objectid), int64(k.offset))
		case nodeItem:
			return true, each(int64(k.objectid), v.node)
		}
		return true, nil
	})
}

// Used tells the start of the device, where its superblocks lie, and each copy of each extent.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	type stripe struct {
		at int64
		of chunk
	}
	var all []stripe
	for _, c := range v.chunks {
		for _, at := range c.at {
			all = append(all, stripe{at, c})
		}
	}
	slices.SortFunc(all, func(a, b stripe) int { return cmp.Compare(a.at, b.at) })
	runs := inspect.NewRuns(each)
	rest := copies
	add := func(off, n int64) error {
		for len(rest) > 0 && rest[0] <= off && rest[0]+superSize <= v.size {
			if err := runs.Add(rest[0], superSize); err != nil {
				return err
			}
			rest = rest[1:]
		}
		return runs.Add(off, n)
	}
	if err := runs.Add(0, min(reserved, v.size)); err != nil {
		return err
	}
	end := int64(0)
	for _, s := range all {
		if s.at < end {
			return disk.Damaged("chunks that overlap, at %d", s.at)
		}
		end = s.at + s.of.length
		err := v.taken(ctx, s.of.logical, s.of.logical+s.of.length, func(at, n int64) error {
			if n > s.of.logical+s.of.length-at {
				return disk.Damaged("an extent over the end of its chunk, at %d", at)
			}
			return add(s.at+at-s.of.logical, n)
		})
		if err != nil {
			return err
		}
	}
	for _, at := range rest {
		if at+superSize <= v.size {
			if err := runs.Add(at, superSize); err != nil {
				return err
			}
		}
	}
	return runs.Flush()
}
