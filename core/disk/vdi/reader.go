package vdi

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

type reader struct {
	disk.Blocks
	header header
	tables *disk.Pages
	name   string
	parent string // the name of the file that it was found in
}

func open(ctx context.Context, o disk.Origin) (disk.Reader, error) {
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return nil, err
	}
	r := &reader{name: o.Name}
	if err := r.load(file); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	if r.header.parent != [16]byte{} {
		if err := r.openParent(ctx, o); err != nil {
			return nil, errors.Join(err, r.Close())
		}
	}
	return r, nil
}

func (r *reader) load(file storage.File) error {
	size, err := file.Size()
	if err != nil {
		return err
	}
	b := make([]byte, headerEnd)
	if err := disk.ReadFull(file, b, 0); err != nil {
		return fmt.Errorf("reading the header: %w", err)
	}
	if r.header, err = decodeHeader(b); err != nil {
		return err
	}
	if end := int64(r.header.mapOffset) + 4*int64(r.header.blocks); end > size {
		return disk.Damaged("the map ends at %d, behind the end of the file at %d", end, size)
	}
	r.tables = disk.NewPages(file, size)
	r.Blocks = disk.Blocks{File: file, Name: r.name, FileSize: size, Size: int64(r.header.size), Block: int64(r.header.block), Find: r.find}
	r.Holes = func(number int64) int64 { return r.tables.Run(int64(r.header.mapOffset)+4*number, 0xff) / 4 }
	if r.header.kind == typeFixed {
		r.Thick = file
	}
	return nil
}

// find reads an entry of the map: which of the stored blocks it is.
func (r *reader) find(number int64) (int64, disk.Kind, error) {
	var b [4]byte
	if _, err := r.tables.ReadAt(b[:], int64(r.header.mapOffset)+4*number); err != nil {
		return 0, disk.Hole, err
	}
	switch entry := binary.LittleEndian.Uint32(b[:]); entry {
	case free:
		return 0, disk.Hole, nil
	case zero:
		return 0, disk.Zero, nil
	default:
		if entry >= r.header.blocks {
			return 0, disk.Hole, disk.Damaged("the map says that block %d is stored as number %d of %d", number, entry, r.header.blocks)
		}
		stride := r.Block + int64(r.header.extra)
		return int64(r.header.dataOffset) + int64(entry)*stride + int64(r.header.extra), disk.Data, nil
	}
}

func (r *reader) Size() int64 { return r.Blocks.Size }

// Check walks the map.
func (r *reader) Check(ctx context.Context) error {
	return r.Blocks.Check(ctx, int64(r.header.extra), disk.Extent{Off: 0, Len: int64(r.header.dataOffset)})
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format: "vdi", Layout: dynamic, Version: "1.1", VirtualSize: r.Size(), BlockSize: r.Block, SectorSize: sectorSize,
		Files: []string{r.name}, Creator: r.header.text, Identifier: uuid.UUID(r.header.id).String(),
	}
	if r.header.kind == typeFixed {
		d.Layout = fixed
	}
	if r.Base != nil {
		d.Layout = differencing
		d.StandOn(r.Base, r.parent)
	}
	return d
}
