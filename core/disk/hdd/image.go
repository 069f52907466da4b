package hdd

import (
	"context"
	"encoding/binary"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// image is one expanding file.
type image struct {
	disk.Blocks
	header header
	tables *disk.Pages
}

func openImage(file storage.File, name string) (*image, error) {
	size, err := file.Size()
	if err != nil {
		return nil, err
	}
	b := make([]byte, headerSize)
	if err := disk.ReadFull(file, b, 0); err != nil {
		return nil, fmt.Errorf("reading the header: %w", err)
	}
	m := &image{}
	if m.header, err = decodeHeader(b); err != nil {
		return nil, err
	}
	if end := tableAt + 4*int64(m.header.entries); end > size {
		return nil, disk.Damaged("the table ends at %d, behind the end of the file at %d", end, size)
	}
	if int64(m.header.data)*sector > size {
		return nil, disk.Damaged("the first cluster is said to lie at sector %d, but the file ends at %d", m.header.data, size)
	}
	m.tables = disk.NewPages(file, size)
	m.Blocks = disk.Blocks{
		File:     file,
		Name:     name,
		FileSize: size,
		Size:     int64(m.header.sectors) * sector,
		Block:    int64(m.header.cluster) * sector,
		Find:     m.find,
	}
	m.Holes = func(number int64) int64 { return m.tables.Run(tableAt+4*number, 0) / 4 }
	return m, nil
}

// find reads an entry of the table: 0 for a cluster that is not stored.
func (m *image) find(number int64) (int64, disk.Kind, error) {
	var b [4]byte
	if _, err := m.tables.ReadAt(b[:], tableAt+4*number); err != nil {
		return 0, disk.Hole, err
	}
	entry := int64(binary.LittleEndian.Uint32(b[:]))
	if entry == 0 {
		return 0, disk.Hole, nil
	}
	if m.header.clusters {
		entry *= int64(m.header.cluster)
	}
	return entry * sector, disk.Data, nil
}

// check walks the table.
func (m *image) check(ctx context.Context) error {
	return m.Check(ctx, 0, disk.Extent{Off: 0, Len: tableAt + 4*int64(m.header.entries)})
}
