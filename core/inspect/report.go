package inspect

import (
	"context"
	"errors"
	"fmt"
	"path"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// Report is what is known of a disk without reading its content. Sizes are in bytes.
type Report struct {
	Name string `json:"name"` // in its folder
	disk.Description
	AllocatedSize int64 `json:"allocated_size"` // of the virtual size, how much is stored
	FileSize      int64 `json:"file_size"`      // lengths of the files
	Room          int64 `json:"room"`           // what the files take of the storage, holes not counted
	Extents       []Run `json:"extents"`        // from the first byte on, at most maxExtents
	ExtentsTotal  int   `json:"extents_total"`
	// Inside is what is in the disk; empty when it could not be read, which a warning then tells.
	Inside Contents `json:"inside"`
	// AtLeast tells that the disk is too scattered for all of it to be counted: there may be more allocated, and more extents.
	AtLeast bool `json:"at_least,omitempty"`
	// Damaged tells that a warning is about damage: tables that do not agree, content that cannot be read, files that are missing or short.
	Damaged bool `json:"damaged"`
}

// Run is an extent of the report.
type Run struct {
	Offset int64  `json:"offset"`
	Length int64  `json:"length"`
	Kind   string `json:"kind"`
}

// maxExtents bounds a report: a badly scattered disk has millions.
const maxExtents = 1000

// File reports on a disk; format is empty when it is to be recognised. Damage below the surface is a warning in the report;
// an image that does not open is an error.
func File(ctx context.Context, o disk.Origin, format string) (Report, error) {
	r, err := o.Open(ctx, format)
	if err != nil {
		return Report{}, fmt.Errorf("opening %s: %w", o.Name, err)
	}
	defer r.Close()
	out := Report{Name: path.Clean(o.Name), Description: r.Describe(), Extents: []Run{}}
	warn := func(err error) { out.Warnings, out.Damaged = append(out.Warnings, err.Error()), true }
	if out.FileSize, out.Room, err = storage.Measure(o.Folder, out.Files); err != nil {
		return Report{}, err
	}
	if err := disk.CheckSoon(ctx, r); errors.Is(err, disk.ErrNotAll) {
		out.Warnings = append(out.Warnings, err.Error())
	} else if err != nil {
		warn(err)
	}
	err = disk.Survey(ctx, r, func(e disk.Extent) {
		if e.Kind == disk.Data {
			out.AllocatedSize += e.Len
		}
		if out.ExtentsTotal++; len(out.Extents) < maxExtents {
			out.Extents = append(out.Extents, Run{e.Off, e.Len, e.Kind.String()})
		}
	})
	if ctx.Err() != nil {
		return Report{}, ctx.Err()
	}
	if out.AtLeast = errors.Is(err, disk.ErrNotAll); err != nil && !out.AtLeast {
		warn(err)
	}
	if out.Inside, err = Inside(r); err != nil {
		warn(err)
	}
	out.Inside.Fill(r)
	if len(out.Files) > 0 {
		tag, _ := TagHead(o.Folder, out.Files[0]) // one that cannot be read tells nothing
		lacks, err := Lacks(o.Folder, out.Files[0], out.Description, tag)
		if err != nil {
			return Report{}, err
		}
		for _, lack := range lacks {
			warn(fmt.Errorf("the disk is not whole: %s", lack))
		}
	}
	// Programs that read the report get lists, never null.
	for _, list := range []*[]string{&out.Files, &out.Chain, &out.Snapshots, &out.Warnings} {
		if *list == nil {
			*list = []string{}
		}
	}
	return out, nil
}
