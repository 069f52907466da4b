package vhdx

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"bagaglio/core/disk"

	"github.com/google/uuid"
)

// Where the parts of an image that we write lie: the headers, an empty log, the metadata, the table, then blocks.
const (
	ourLog      = 1 * mib
	ourMetadata = 2 * mib
	ourTable    = 3 * mib
	ourSector   = 512
	ourPhysical = 4096
	ourCreator  = "Bagaglio"
)

// shape are the measures of an image that we write.
type shape struct{ virtual, block, sector int64 }

// shapeOf takes the smallest blocks that keep the table short, unless others are asked for.
func shapeOf(virtual int64, o disk.Options) shape {
	s := shape{virtual: virtual, block: smallestBlock, sector: ourSector}
	for virtual/s.block > mostBlocks {
		s.block *= 2
	}
	if o.BlockSize > 0 {
		s.block = o.BlockSize
	}
	if o.SectorSize > 0 {
		s.sector = o.SectorSize
	}
	return s
}

func (s shape) ratio() int64 { return chunkRatio(s.sector, s.block) }

// tableLength is the length of the table's region, with room for all bitmaps.
func (s shape) tableLength() int64 {
	return up(8*entries(up(s.virtual, s.block)/s.block, s.ratio(), true), mib)
}

func (s shape) firstBlock() int64 { return ourTable + s.tableLength() }

type writer struct {
	*disk.BlockWriter
	shape shape
	meta  metadata
}

func create(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	s := shapeOf(t.Size, t.Options)
	w := &writer{
		shape: s,
		meta:  metadata{block: uint32(s.block), size: uint64(t.Size), id: t.Identifier, logical: uint32(s.sector), physical: ourPhysical},
	}
	if t.Layout == differencing {
		var err error
		if w.meta.parent, err = parentOf(t); err != nil {
			return nil, err
		}
		w.meta.flags = hasParent
	}
	var err error
	if w.BlockWriter, err = disk.NewBlockWriter(t, s.block, s.firstBlock(), s.block); err != nil {
		return nil, err
	}
	w.Marks = true
	if t.Layout == fixed {
		w.meta.flags = leaveBlocks
		if err := w.Reserve(); err != nil {
			return nil, errors.Join(fmt.Errorf("taking room for %s: %w", t.Name, err), w.Close())
		}
	}
	return w, nil
}

// Commit writes the structures, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := w.writeTable(); err != nil {
		return err
	}
	id := uuid.UUID(w.Target.Identifier)
	regions := encodeRegions([]region{
		{regionMetadata, ourMetadata, mib, true},
		{regionBAT, ourTable, uint32(w.shape.tableLength()), true},
	})
	h := header{
		fileWrite: uuid.NewSHA1(
			id,
			[]byte("file"),
		),
		dataWrite: uuid.NewSHA1(id, []byte("data")),
		version:   version,
		logLength: mib,
		logOffset: ourLog,
	}
	parts := []disk.Part{
		{What: "metadata", Bytes: w.meta.encode(), Off: ourMetadata},
		{What: "first region table", Bytes: regions, Off: regionAt1},
		{What: "second region table", Bytes: regions, Off: regionAt2},
	}
	for i, at := range []int64{headerAt1, headerAt2} {
		h.sequence = uint64(i + 1)
		parts = append(parts, disk.Part{What: "header", Bytes: h.encode(), Off: at})
	}
	signature := append([]byte(fileSignature), encode16(ourCreator)...)
	return w.Finish(w.End(), append(parts, disk.Part{What: "signature", Bytes: signature, Off: 0})...)
}

// writeTable writes the table, a piece at a time: as a whole it may have 33 MiB.
func (w *writer) writeTable() error {
	piece, at := make([]byte, mib), int64(0)
	flush := func() error {
		err := disk.WriteParts(w.File, w.Target.Name, disk.Part{What: "table", Bytes: piece, Off: ourTable + at})
		clear(piece)
		at += mib
		return err
	}
	for number := range w.Count() {
		off := 8 * entryOf(number, w.shape.ratio())
		for off >= at+mib {
			if err := flush(); err != nil {
				return err
			}
		}
		entry := uint64(stateNotPresent)
		switch off, kind := w.Find(number); kind {
		case disk.Data:
			entry = uint64(off) | statePresent
		case disk.Zero:
			entry = stateZero
		}
		binary.LittleEndian.PutUint64(piece[off-at:], entry)
	}
	for at < w.shape.tableLength() {
		if err := flush(); err != nil {
			return err
		}
	}
	return nil
}
