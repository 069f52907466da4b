package btrfs

import (
	"context"
	"fmt"
	"hash/crc32"

	"bagaglio/core/disk"
)

// Facts of trees: nodes begin with a header, and have pointers to others, or items whose data lies at their end.
const (
	keySize    = 17
	header     = 101
	atBytenr   = 48
	atItems    = 96
	atLevel    = 100
	pointer    = 33
	atBlock    = 17
	itemHeader = 25
	atDataOff  = 17
	atDataLen  = 21
	maxLevel   = 8

	extentTree = 2
	firstTree  = 5

	rootItem   = 132
	rootRef    = 156
	extentItem = 168
	nodeItem   = 169
	atBytes    = 176 // of an item of a root: the address of that
)

// key is that of an item.
type key struct {
	objectid uint64
	kind     byte
	offset   uint64
}

func readKey(b []byte) key { return key{le.Uint64(b), b[8], le.Uint64(b[9:])} }

func (k key) less(o key) bool {
	if k.objectid != o.objectid {
		return k.objectid < o.objectid
	}
	if k.kind != o.kind {
		return k.kind < o.kind
	}
	return k.offset < o.offset
}

// read reads a node: of its copies, the first that is right.
func (v *volume) read(logical uint64) ([]byte, error) {
	if logical > 1<<61 {
		return nil, disk.Damaged("a node at the address %d", logical)
	}
	places, err := v.places(int64(logical), v.node)
	if err != nil {
		return nil, err
	}
	b := make([]byte, v.node)
	for _, at := range places {
		if _, err = v.r.ReadAt(b, at); err != nil {
			continue
		}
		if le.Uint64(b[atBytenr:]) == logical && (!v.sums || crc32.Checksum(b[sumLen:], castagnoli) == le.Uint32(b)) {
			return b, nil
		}
		err = disk.Damaged("a node at the address %d is another one, or its checksum is wrong", logical)
	}
	return nil, err
}

// walk calls each with the items of a tree from a key on, in their order, until it says no.
func (v *volume) walk(ctx context.Context, root uint64, from key, each func(k key, data []byte) (bool, error)) error {
	_, err := v.below(ctx, root, maxLevel, from, each)
	return err
}

func (v *volume) below(ctx context.Context, at uint64, above byte, from key, each func(key, []byte) (bool, error)) (more bool, err error) {
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	b, err := v.read(at)
	if err != nil {
		return false, err
	}
	n, level := int(le.Uint32(b[atItems:])), b[atLevel]
	if level >= above {
		return false, disk.Damaged("a node of level %d below one of %d", level, above)
	}
	if level == 0 {
		return leaf(b, n, from, each)
	}
	if n > (len(b)-header)/pointer {
		return false, disk.Damaged("a node with %d pointers", n)
	}
	for i := range n {
		p := b[header+i*pointer:]
		if i+1 < n && !from.less(readKey(b[header+(i+1)*pointer:])) { // all below it comes before
			continue
		}
		if more, err = v.below(ctx, le.Uint64(p[atBlock:]), level, from, each); !more || err != nil {
			return false, err
		}
	}
	return true, nil
}

func leaf(b []byte, n int, from key, each func(key, []byte) (bool, error)) (bool, error) {
	if n > (len(b)-header)/itemHeader {
		return false, disk.Damaged("a leaf with %d items", n)
	}
	for i := range n {
		item := b[header+i*itemHeader:]
		k := readKey(item)
		if k.less(from) {
			continue
		}
		off, length := int64(le.Uint32(item[atDataOff:])), int64(le.Uint32(item[atDataLen:]))
		if header+off+length > int64(len(b)) {
			return false, disk.Damaged("an item of %d bytes at %d of a leaf", length, off)
		}
		if more, err := each(k, b[header+off:header+off+length]); !more || err != nil {
			return false, err
		}
	}
	return true, nil
}

// tree finds the root of a tree by its ID.
func (v *volume) tree(id uint64) (root uint64, err error) {
	found := false
	err = v.walk(context.Background(), v.root, key{id, rootItem, 0}, func(k key, data []byte) (bool, error) {
		if k.objectid == id && k.kind == rootItem && len(data) >= atBytes+8 {
			root, found = le.Uint64(data[atBytes:]), true
		}
		return false, nil
	})
	if err == nil && !found {
		err = disk.Damaged("it has no tree %d", id)
	}
	if err != nil {
		err = fmt.Errorf("looking for the tree %d: %w", id, err)
	}
	return root, err
}
