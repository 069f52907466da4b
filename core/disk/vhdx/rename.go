package vhdx

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// rename changes the name of the parent in its locator. Everything else stays as it is.
func rename(file storage.File, names map[string]string) (changed bool, err error) {
	r := &reader{taken: []disk.Extent{{Off: 0, Len: mib}}}
	if err := r.load(file); err != nil {
		return false, err
	}
	renamed := maps.Clone(r.parent)
	for _, key := range []string{keyRelative, keyVolume, keyAbsolute} {
		if was, ok := renamed[key]; ok {
			renamed[key] = disk.Renamed(was, names)
			if len(encode16(renamed[key])) > math.MaxUint16 {
				return false, errNoRoom
			}
		}
	}
	if maps.Equal(renamed, r.parent) {
		return false, nil
	}
	if r.header.log != uuid.Nil {
		return false, fmt.Errorf(
			"the image was not closed properly, so that its names cannot be changed: open it in its hypervisor once, or keep the names",
		)
	}
	regions, err := r.regions(file)
	if err != nil {
		return false, err
	}
	at := regions[slices.IndexFunc(regions, func(g region) bool { return g.id == regionMetadata })] // it was loaded from there
	if err := relocate(file, at, encodeLocator(renamed)); err != nil {
		return false, err
	}
	return true, nil
}

var errNoRoom = errors.New("the metadata has no room for longer names: choose a shorter one")

// relocate writes the locator into the metadata region: where it was, or behind all other items when it has become longer.
func relocate(file storage.File, at region, value []byte) error {
	table := make([]byte, tableSize)
	if err := disk.ReadFull(file, table, int64(at.offset)); err != nil {
		return err
	}
	le := binary.LittleEndian
	var entry []byte
	end := uint32(tableSize)
	for i := range int(le.Uint16(table[10:])) { // loading bounded them all
		e := table[32+32*i:][:32]
		end = max(end, le.Uint32(e[16:])+le.Uint32(e[20:]))
		if guid(e) == itemLocator {
			entry = e
		}
	}
	offset := le.Uint32(entry[16:])
	if uint32(len(value)) > le.Uint32(entry[20:]) {
		offset = end
	}
	if uint64(offset)+uint64(len(value)) > uint64(at.length) || len(value) > mib {
		return errNoRoom
	}
	le.PutUint32(entry[16:], offset)
	le.PutUint32(entry[20:], uint32(len(value)))
	if _, err := file.WriteAt(value, int64(at.offset)+int64(offset)); err != nil {
		return err
	}
	_, err := file.WriteAt(table, int64(at.offset))
	return err
}
