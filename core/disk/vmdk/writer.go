package vmdk

import (
	"encoding/binary"
	"fmt"
	"path"
	"strings"

	"bagaglio/core/disk"
)

func create(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	d, err := describe(t)
	if err != nil {
		return nil, err
	}
	switch t.Layout {
	case flat, splitFlat, splitSparse:
		return createSplit(t, d)
	case stream:
		return createStream(t, d)
	}
	return createSparse(t, &d)
}

// describe makes the descriptor of the target.
func describe(t disk.Target) (descriptor, error) {
	d := descriptor{
		cid: binary.LittleEndian.Uint32(t.Identifier[:4]) &^ (1 << 31), parentCID: noParent, kind: kinds[t.Layout], adapter: t.Options.Adapter,
	}
	if d.adapter == "" {
		d.adapter = adapters[0]
	}
	if t.Layout == delta {
		base, ok := t.Base.(*reader)
		if !ok || base.Size() != t.Size {
			return d, disk.Unsupported("a delta on anything but a vmdk disk of the same size")
		}
		d.parentCID, d.parentHint = base.cid, t.BaseName
	}
	kind := "SPARSE"
	if t.Layout == flat || t.Layout == splitFlat {
		kind = "FLAT"
	}
	for i, name := range extentNames(t.Layout, path.Base(t.Name), t.Size, t.Options) {
		length := extentLength(t.Layout, t.Size, t.Options)
		if off := int64(i) * length; off < t.Size { // behind the extents there is the descriptor's own name
			d.extents = append(d.extents, extentLine{sectors: min(length, t.Size-off) / sector, kind: kind, file: name})
		}
	}
	_, err := d.encode(t.Size)
	return d, err
}

// extentLength is how many bytes of the disk lie in an extent.
func extentLength(layout string, virtual int64, o disk.Options) int64 {
	if layout != splitFlat && layout != splitSparse {
		return virtual
	}
	if o.PieceSize > 0 {
		return o.PieceSize
	}
	return defaultPiece
}

// extentNames are the names of the extents of a disk, in their order, and behind them that of the descriptor where it is a
// file of its own.
func extentNames(layout, name string, virtual int64, o disk.Options) (names []string) {
	stem, ext := strings.TrimSuffix(name, path.Ext(name)), path.Ext(name)
	length := extentLength(layout, virtual, o)
	for i := int64(1); (i-1)*length < virtual && i <= disk.MaxPieces; i++ {
		switch layout {
		case flat:
			names = append(names, stem+"-flat"+ext)
		case splitFlat:
			names = append(names, fmt.Sprintf("%s-f%03d%s", stem, i, ext))
		case splitSparse:
			names = append(names, fmt.Sprintf("%s-s%03d%s", stem, i, ext))
		}
	}
	return append(names, name)
}

// createSplit makes a disk whose descriptor is a file of its own.
func createSplit(t disk.Target, d descriptor) (disk.Writer, error) {
	names := extentNames(t.Layout, t.Name, t.Size, t.Options)
	begin := func(i int, size int64) (disk.Writer, error) {
		piece := t
		piece.Name, piece.Size = names[i], size
		if t.Layout == splitSparse {
			return createSparse(piece, nil)
		}
		return disk.CreateFlat(piece, true, nil)
	}
	return disk.Split(t, extentLength(t.Layout, t.Size, t.Options), begin, names, func() error {
		text, err := d.encode(t.Size)
		if err != nil {
			return err
		}
		return t.WriteFile(t.Name, text)
	})
}

// splitSize is the length of all files of a split sparse disk.
func splitSize(virtual int64, o disk.Options, stored int64) int64 {
	length := extentLength(splitSparse, virtual, o)
	size := maxOwnDescriptor + virtual/length*planFile(length).first + stored
	if rest := virtual % length; rest > 0 {
		size += planFile(rest).first
	}
	return size
}
