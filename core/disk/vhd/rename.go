package vhd

import (
	"bytes"
	"encoding/binary"
	"errors"
	"net/url"
	"strings"
	"unicode/utf16"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// rename changes the name of the parent, wherever the header has it. Everything else stays as it is.
func rename(file storage.File, names map[string]string) (changed bool, err error) {
	size, err := file.Size()
	if err != nil || size < 2*footerSize+headerSize {
		return false, err
	}
	b := make([]byte, footerSize)
	if err := disk.ReadFull(file, b, size-footerSize); err != nil {
		return false, err
	}
	f, err := decodeFooter(b)
	if err != nil || f.DiskType != typeDiffering {
		return false, err
	}
	at := int64(min(f.DataOffset, uint64(size))) // behind the end it is not read
	b = make([]byte, headerSize)
	if err := disk.ReadFull(file, b, at); err != nil {
		return false, err
	}
	h, err := decodeHeader(b)
	if err != nil {
		return false, err
	}
	if to := disk.Renamed(h.ParentName, names); to != h.ParentName {
		changed = true
		units := utf16.Encode([]rune(to))
		if len(units) > maxParentName {
			return false, errNoRoom
		}
		clear(b[parentNameAt : parentNameAt+2*maxParentName])
		for i, unit := range units {
			binary.BigEndian.PutUint16(b[parentNameAt+2*i:], unit)
		}
	}
	for i := range maxLocators {
		entry := b[locatorsAt+locatorSize*i:]
		l, done, err := decodeLocator(entry).rename(file, names)
		if err != nil {
			return false, err
		}
		if done {
			changed = true
			l.encode(entry)
		}
	}
	if !changed {
		return false, nil
	}
	binary.BigEndian.PutUint32(b[36:], checksumBut(b, 36))
	if _, err := file.WriteAt(b, at); err != nil {
		return false, err
	}
	return true, nil
}

var errNoRoom = errors.New("the header has no room for longer names: choose a shorter one")

// rename changes the text of a locator, in the room that is kept for it. An earlier time may have done so and not come to the header.
func (l locator) rename(file storage.File, names map[string]string) (locator, bool, error) {
	room := int64(l.space)
	if room < int64(l.length) { // it is in sectors, as it should be; some write it in bytes, and behind those may be anything
		room *= sectorSize
	}
	old := make([]byte, min(max(room, int64(l.length)), maxLocator))
	if l.length == 0 || l.length > maxLocator {
		return l, false, nil
	}
	if err := disk.ReadFull(file, old, int64(min(l.offset, 1<<62))); err != nil {
		return l, false, err
	}
	var text []byte
	switch l.platform {
	case platformRelative, platformAbsolute:
		to, done := renamedTo(text16(old, binary.LittleEndian), names)
		if !done {
			return l, false, nil
		}
		for _, unit := range utf16.Encode([]rune(to)) {
			text = binary.LittleEndian.AppendUint16(text, unit)
		}
	case platformURL:
		end := bytes.IndexByte(append(old, 0), 0)
		u, err := url.Parse(string(old[:end]))
		if err != nil {
			return l, false, nil
		}
		to, done := renamedTo(u.Path, names)
		if !done {
			return l, false, nil
		}
		u.Path, u.RawPath = to, ""
		text = []byte(u.String())
	default:
		return l, false, nil
	}
	if int64(len(text)) > room {
		return l, false, errNoRoom
	}
	l.length = uint32(len(text))
	_, err := file.WriteAt(append(text, make([]byte, max(0, len(old)-len(text)))...), int64(l.offset))
	return l, true, err
}

// renamedTo is a path with a new name; done tells that it has one, now or since an earlier time.
func renamedTo(from string, names map[string]string) (to string, done bool) {
	to = disk.Renamed(from, names)
	for _, name := range names {
		done = done || strings.HasSuffix(to, name)
	}
	return to, to != from || done
}
