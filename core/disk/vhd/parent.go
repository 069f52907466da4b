package vhd

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"
	"unicode/utf16"

	"bagaglio/core/disk"

	"github.com/google/uuid"
)

// "Parent Locator Entries" of the dynamic header, by their offset in it.
const (
	parentNameAt  = 64
	maxParentName = 256 // characters of 16 bits
	locatorsAt    = 576
	locatorSize   = 24
	maxLocators   = 8
	maxLocator    = 8 << 10 // bytes of a locator's text that are read or written

	platformRelative = 0x57327275 // a relative path in UTF-16, little-endian
	platformAbsolute = 0x57326b75 // an absolute one
	platformURL      = 0x4d616358 // a file URL in UTF-8
)

// locator says where the text lies that names the parent.
type locator struct {
	platform uint32
	space    uint32 // sectors that are kept for it
	length   uint32 // bytes
	offset   uint64
}

func (l locator) encode(b []byte) {
	be := binary.BigEndian
	be.PutUint32(b, l.platform)
	be.PutUint32(b[4:], l.space)
	be.PutUint32(b[8:], l.length)
	be.PutUint64(b[16:], l.offset)
}

func decodeLocator(b []byte) locator {
	be := binary.BigEndian
	return locator{be.Uint32(b), be.Uint32(b[4:]), be.Uint32(b[8:]), be.Uint64(b[16:])}
}

// text16 reads UTF-16 up to the first zero.
func text16(b []byte, order binary.ByteOrder) string {
	var units []uint16
	for ; len(b) >= 2 && order.Uint16(b) != 0; b = b[2:] {
		units = append(units, order.Uint16(b))
	}
	return string(utf16.Decode(units))
}

// parentNames are what the image says of where its parent lies, the most useful first: all relative to the image or
// refused by whoever opens them.
func (r *reader) parentNames() (names []string, err error) {
	for _, platform := range []uint32{platformRelative, platformURL, platformAbsolute} {
		for _, l := range r.header.Locators {
			if l.platform != platform || l.length == 0 {
				continue
			}
			if l.length > maxLocator {
				return nil, disk.Damaged("a parent locator of %d bytes is absurd", l.length)
			}
			b := make([]byte, l.length)
			if _, err := r.tables.ReadAt(b, int64(min(l.offset, 1<<62))); err != nil {
				return nil, fmt.Errorf("reading a parent locator: %w", err)
			}
			text := text16(b, binary.LittleEndian)
			if platform == platformURL {
				text = string(b)
				if u, err := url.Parse(text); err == nil && u.Scheme == "file" {
					text = u.Path
				}
			}
			names = append(names, slashes(text))
		}
	}
	// The name alone, beside the image: for a disk that was moved here together with its parent.
	if name := path.Base(slashes(r.header.ParentName)); r.header.ParentName != "" {
		names = append(names, name)
	}
	return names, nil
}

func slashes(s string) string { return strings.ReplaceAll(s, `\`, "/") }

// openParent opens the first of the parents that it finds, which has to be the one that the disk was put on.
func (r *reader) openParent(ctx context.Context, o disk.Origin) error {
	names, err := r.parentNames()
	if err != nil {
		return err
	}
	var failed error
	for _, name := range names {
		base, err := o.Base(ctx, name, "vhd")
		if err == nil {
			if parent, ok := base.(*reader); !ok || parent.footer.ID != r.header.ParentID {
				err = errors.Join(
					disk.Damaged("%q is another disk than the one that this one was put on (%s)", name, uuid.UUID(r.header.ParentID)),
					base.Close(),
				)
			}
		}
		if err != nil {
			failed = cmp.Or(failed, err) // the name that is most useful says best what is wrong
			continue
		}
		r.base, r.baseName = base, name
		r.blocks.Base, r.blocks.Sectors = base, r.sectors
		return nil
	}
	if failed == nil {
		return disk.Damaged("the disk stands on a parent, but does not name it")
	}
	return failed
}

// standOn makes the header name the target's base, with a locator at an offset of the file.
func (w *writer) standOn(t disk.Target, at int64) error {
	base, ok := t.Base.(*reader)
	if !ok || base.Size() != t.Size {
		return disk.Unsupported("a differencing disk on anything but a vhd disk of the same size")
	}
	w.footer.DiskType = typeDiffering
	w.header.ParentID, w.header.ParentTime, w.header.ParentName = base.footer.ID, base.footer.Timestamp, path.Base(t.BaseName)
	for _, unit := range utf16.Encode([]rune(`.\` + strings.ReplaceAll(t.BaseName, "/", `\`))) {
		w.locator = binary.LittleEndian.AppendUint16(w.locator, unit)
	}
	length := len(w.locator)
	if length > maxLocator-sectorSize {
		return disk.Unsupported("a name of %d bytes for the parent: choose a shorter one", length)
	}
	w.locator = append(w.locator, make([]byte, (sectorSize-length%sectorSize)%sectorSize)...)
	w.header.Locators = []locator{{platformRelative, uint32(len(w.locator) / sectorSize), uint32(length), uint64(at)}}
	return nil
}
