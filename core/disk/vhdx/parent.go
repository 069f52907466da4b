package vhdx

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"

	"github.com/google/uuid"
)

// The locator of a parent (2.6.2.6): keys and values in UTF-16.
var locatorType = uuid.MustParse("b04aefb7-d19e-4a81-b789-25b8e9445913")

const (
	locatorHeader = 20
	locatorEntry  = 12
	maxKeys       = 64

	keyLinkage  = "parent_linkage"  // the GUID that the parent changes when it is written to
	keyLinkage2 = "parent_linkage2" // another one that is as good
	keyRelative = "relative_path"
	keyVolume   = "volume_path"
	keyAbsolute = "absolute_win32_path"
)

func decodeLocator(b []byte) (map[string]string, error) {
	le := binary.LittleEndian
	if len(b) < locatorHeader || guid(b) != locatorType {
		return nil, disk.Unsupported("a parent locator of an unknown type")
	}
	count := int(le.Uint16(b[18:]))
	if count > maxKeys || locatorHeader+count*locatorEntry > len(b) {
		return nil, disk.Damaged("a parent locator with %d keys makes no sense", count)
	}
	pairs := map[string]string{}
	for i := range count {
		e := b[locatorHeader+i*locatorEntry:]
		text := func(off, n uint64) (string, error) {
			if off+n > uint64(len(b)) {
				return "", disk.Damaged("an entry of the parent locator lies outside of it")
			}
			return text16(b[off : off+n]), nil
		}
		key, err := text(uint64(le.Uint32(e)), uint64(le.Uint16(e[8:])))
		value, valueErr := text(uint64(le.Uint32(e[4:])), uint64(le.Uint16(e[10:])))
		if err = errors.Join(err, valueErr); err != nil {
			return nil, err
		}
		pairs[key] = value
	}
	return pairs, nil
}

func encodeLocator(pairs map[string]string) []byte {
	le := binary.LittleEndian
	b := make([]byte, locatorHeader+len(pairs)*locatorEntry)
	putGUID(b, locatorType)
	le.PutUint16(b[18:], uint16(len(pairs)))
	for i, key := range slices.Sorted(maps.Keys(pairs)) {
		k, v := encode16(key), encode16(pairs[key])
		e := b[locatorHeader+i*locatorEntry:]
		le.PutUint32(e, uint32(len(b)))
		le.PutUint32(e[4:], uint32(len(b)+len(k)))
		le.PutUint16(e[8:], uint16(len(k)))
		le.PutUint16(e[10:], uint16(len(v)))
		b = append(append(b, k...), v...)
	}
	return b
}

// openParent opens the parent, which has to be as it was when this disk was put on it.
func (r *reader) openParent(ctx context.Context, o disk.Origin) error {
	var failed error
	for _, key := range []string{keyRelative, keyVolume, keyAbsolute} {
		name := strings.ReplaceAll(r.parent[key], `\`, "/")
		if name == "" {
			continue
		}
		base, err := o.Base(ctx, name, "vhdx")
		if err != nil && key != keyRelative {
			// The name alone, beside the image: for a disk that was moved here together with its parent.
			name = path.Base(name)
			base, err = o.Base(ctx, name, "vhdx")
		}
		if err != nil {
			failed = cmp.Or(failed, err)
			continue
		}
		parent, ok := base.(*reader)
		if !ok || !r.linked(parent.header.dataWrite) {
			return errors.Join(
				disk.Damaged("the parent %q has changed since this disk was put on it, or is another one: together they make no sense", name),
				base.Close(),
			)
		}
		r.Base, r.Sectors, r.baseName = base, r.sectors, name
		return nil
	}
	if failed == nil {
		return disk.Damaged("the disk stands on a parent, but does not say where it is")
	}
	return failed
}

func (r *reader) linked(id uuid.UUID) bool {
	for _, key := range []string{keyLinkage, keyLinkage2} {
		if link, err := uuid.Parse(r.parent[key]); err == nil && link == id {
			return true
		}
	}
	return false
}

// sectors reads the bitmap of a block of which only some sectors are stored (2.5.2); the first one has the lowest bit.
func (r *reader) sectors(number, in int64) (present bool, n int64, err error) {
	var b [8]byte
	if _, err := r.tables.ReadAt(b[:], int64(r.bat.offset)+8*entryOf(number, r.ratio)); err != nil {
		return false, 0, err
	}
	if binary.LittleEndian.Uint64(b[:])&stateMask != statePartially {
		return true, r.Block - in, nil
	}
	if _, err := r.tables.ReadAt(b[:], int64(r.bat.offset)+8*bitmapEntryOf(number, r.ratio)); err != nil {
		return false, 0, err
	}
	entry := binary.LittleEndian.Uint64(b[:])
	if entry&stateMask != statePresent {
		return false, 0, disk.Damaged("block %d is partly stored, but its sector bitmap is not", number)
	}
	sector := int64(r.logical)
	count := r.Block / sector // bits
	bitmap := make([]byte, min((count-in/sector+15)/8, 4<<10))
	first := in / sector
	start := int64(entry&offsetMask) + (number%r.ratio)*count/8
	if _, err := r.tables.ReadAt(bitmap[:min(int64(len(bitmap)), count/8-first/8)], start+first/8); err != nil {
		return false, 0, fmt.Errorf("reading the sector bitmap of block %d: %w", number, err)
	}
	bit := func(i int64) bool { return bitmap[i/8-first/8]>>(i%8)&1 != 0 }
	last := first + 1
	for last < count && last/8-first/8 < int64(len(bitmap)) && bit(last) == bit(first) {
		last++
	}
	return bit(first), last*sector - in, nil
}

// parentOf makes the locator for the target's base.
func parentOf(t disk.Target) (map[string]string, error) {
	base, ok := t.Base.(*reader)
	if !ok || base.Size() != t.Size {
		return nil, disk.Unsupported("a differencing disk on anything but a vhdx disk of the same size")
	}
	if want := shapeOf(t.Size, t.Options).sector; want != int64(base.logical) {
		return nil, disk.Unsupported("sectors of %d bytes on a parent with sectors of %d", want, base.logical)
	}
	return map[string]string{
		keyLinkage:  fmt.Sprintf("{%s}", base.header.dataWrite),
		keyRelative: `.\` + strings.ReplaceAll(t.BaseName, "/", `\`),
	}, nil
}
