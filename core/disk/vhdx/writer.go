package vhdx

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"

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

// tableLength is the length of the table's region.
func tableLength(virtual int64) int64 {
	block := blockFor(virtual)
	return up(8*entries(up(virtual, block)/block, chunkRatio(ourSector, block)), mib)
}

func firstBlock(virtual int64) int64 { return ourTable + tableLength(virtual) }

type writer struct {
	*disk.BlockWriter
	flags uint32
}

func create(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	block := blockFor(t.Size)
	blocks, err := disk.NewBlockWriter(t, block, firstBlock(t.Size), block)
	if err != nil {
		return nil, err
	}
	w := &writer{BlockWriter: blocks}
	if t.Layout == fixed {
		w.flags = leaveBlocks
		if err := w.Reserve(); err != nil {
			return nil, errors.Join(fmt.Errorf("taking room for %s: %w", t.Name, err), w.Abort())
		}
	}
	return w, nil
}

// Commit writes the structures, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ratio := chunkRatio(ourSector, w.Block)
	table := make([]byte, tableLength(w.Target.Size)) // at most 33 MiB
	for number := range w.Count() {
		if off, stored := w.Find(number); stored {
			binary.LittleEndian.PutUint64(table[8*entryOf(number, ratio):], uint64(off)|statePresent)
		}
	}
	id := uuid.UUID(w.Target.Identifier)
	meta := metadata{block: uint32(w.Block), flags: w.flags, size: uint64(w.Target.Size), id: id, logical: ourSector, physical: ourPhysical}
	regions := encodeRegions([]region{
		{regionMetadata, ourMetadata, mib, true},
		{regionBAT, ourTable, uint32(len(table)), true},
	})
	h := header{
		fileWrite: uuid.NewSHA1(id, []byte("file")), dataWrite: uuid.NewSHA1(id, []byte("data")), version: version, logLength: mib, logOffset: ourLog,
	}
	parts := []disk.Part{
		{What: "table", Bytes: table, Off: ourTable},
		{What: "metadata", Bytes: meta.encode(), Off: ourMetadata},
		{What: "first region table", Bytes: regions, Off: regionAt1},
		{What: "second region table", Bytes: regions, Off: regionAt2},
	}
	for i, at := range []int64{headerAt1, headerAt2} {
		h.sequence = uint64(i + 1)
		parts = append(parts, disk.Part{What: "header", Bytes: h.encode(), Off: at})
	}
	signature := []byte(fileSignature)
	for _, unit := range utf16.Encode([]rune(ourCreator)) {
		signature = binary.LittleEndian.AppendUint16(signature, unit)
	}
	return w.Finish(w.End(), append(parts, disk.Part{What: "signature", Bytes: signature, Off: 0})...)
}
