package vdi

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"bagaglio/core/disk"
)

// writer makes an image: header, map at 1 MiB, blocks from the next whole MiB behind it on.
type writer struct {
	*disk.BlockWriter
	kind uint32
}

func create(t disk.Target) (disk.Writer, error) {
	blocks, err := disk.NewBlockWriter(t, mib, dataOffset(t.Size), mib)
	if err != nil {
		return nil, err
	}
	w := &writer{blocks, typeDynamic}
	if t.Layout == fixed {
		w.kind = typeFixed
		if err := w.Reserve(); err != nil {
			return nil, errors.Join(fmt.Errorf("taking room for %s: %w", t.Name, err), w.Close())
		}
	}
	return w, nil
}

// Commit writes header and map, and syncs all.
func (w *writer) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	err := w.WriteTable(mib, binary.LittleEndian, func(off int64) uint32 {
		if off < 0 {
			return free
		}
		return uint32((off - w.First) / w.Stride)
	})
	if err != nil {
		return err
	}
	h := header{
		kind: w.kind, mapOffset: mib, dataOffset: uint32(w.First), size: uint64(w.Target.Size), block: mib,
		blocks: uint32(w.Count()), allocated: uint32(w.Stored()), id: w.Target.Identifier,
	}
	return w.Finish(w.End(), disk.Part{What: "header", Bytes: h.encode(), Off: 0})
}
