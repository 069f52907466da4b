package inspect

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/fingerprint"
)

// Hit is what lies in a range of a disk that is damaged.
type Hit struct {
	fingerprint.Range
	Partition  int      `json:"partition,omitempty"` // its number, 0 where there are none or it lies outside of all
	Volume     string   `json:"volume,omitempty"`    // of LVM on it, GROUP/VOLUME
	Filesystem string   `json:"filesystem,omitempty"`
	Label      string   `json:"label,omitempty"`
	Files      []string `json:"files,omitempty"` // with something in the range, the first ones
	// What says it in words.
	What string `json:"what"`
}

// Bounds of looking for files: how many are named for a range, and for how long it is looked.
const (
	maxFiles = 20
	filesIn  = 20 * time.Second
)

// Hits names what lies in ranges of a disk, which are ascending: the partition, and the files on it, as far as those of its filesystem are read.
// Ranges that are whole leaves, of which only a part may be damaged, are not exact.
func Hits(ctx context.Context, d Disk, ranges []fingerprint.Range, exact bool) (out []Hit) {
	inside, err := Inside(d)
	if err != nil { // the tables themselves cannot be read
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, filesIn)
	defer cancel()
	parts := inside.Partitions
	if inside.Filesystem != nil {
		parts = []Partition{{Length: d.Size(), Filesystem: inside.Filesystem}}
	}
	for _, p := range parts {
		var own []Hit
		for _, r := range ranges {
			start, end := max(r.Offset, p.Offset), min(r.Offset+r.Length, p.Offset+p.Length)
			if start < end && !p.Extended() {
				own = append(own, Hit{Range: fingerprint.Range{Offset: start, Length: end - start}, Partition: p.Number})
			}
		}
		switch {
		case len(own) == 0:
		case p.Filesystem != nil && len(p.Filesystem.Volumes) > 0:
			out = append(out, p.inVolumes(ctx, d, own, exact)...)
		default:
			p.name(ctx, d, own, exact, p.on())
			out = append(out, own...)
		}
	}
	byOffset := func(a, b Hit) int { return cmp.Compare(a.Offset, b.Offset) }
	slices.SortFunc(out, byOffset)
	if inside.Table != "" {
		out = append(out, outside(ranges, out)...)
		slices.SortFunc(out, byOffset)
	}
	return out
}

// outside is what of ranges is in none of the hits, which are ascending too.
func outside(ranges []fingerprint.Range, hits []Hit) (out []Hit) {
	for _, r := range ranges {
		at, end := r.Offset, r.Offset+r.Length
		add := func(to int64) {
			if at < to {
				out = append(out, Hit{Range: fingerprint.Range{Offset: at, Length: to - at}, What: "outside of all partitions"})
			}
		}
		for _, h := range hits {
			if h.Offset < end && at < h.Offset+h.Length {
				add(h.Offset)
				at = h.Offset + h.Length
			}
		}
		add(end)
	}
	return out
}

// Extended tells whether a partition only holds others.
func (p Partition) Extended() bool { return p.Type == mbrTypes[0x05] }

// on is where something is that is on a partition, in words.
func (p Partition) on() string {
	switch {
	case p.Number == 0:
		return ""
	case p.Name != "":
		return fmt.Sprintf("on partition %d (%s)", p.Number, p.Name)
	}
	return fmt.Sprintf("on partition %d", p.Number)
}

// inVolumes says of ranges in a partition that LVM has which volumes they lie in, and what they hit there.
func (p Partition) inVolumes(ctx context.Context, d Disk, hits []Hit, exact bool) (out []Hit) {
	for _, v := range p.Filesystem.Volumes {
		var lies, within []Hit // on the disk, and in the volume
		for _, h := range hits {
			for _, piece := range v.pieces {
				at := p.Offset + piece.At
				start, end := max(h.Offset, at), min(h.Offset+h.Length, at+piece.Len)
				if start >= end {
					continue
				}
				lies = append(lies, Hit{Range: fingerprint.Range{Offset: start, Length: end - start}, Partition: p.Number, Volume: v.Name})
				within = append(within, Hit{Range: fingerprint.Range{Offset: piece.Off + start - at, Length: end - start}})
			}
		}
		Partition{Length: v.Size, Filesystem: v.Filesystem}.name(ctx, v.disk(d, p.Offset), within, exact, "on the volume "+v.Name)
		for i, w := range within {
			lies[i].Filesystem, lies[i].Label, lies[i].Files, lies[i].What = w.Filesystem, w.Label, w.Files, w.What
		}
		out = append(out, lies...)
	}
	slices.SortFunc(out, func(a, b Hit) int { return cmp.Compare(a.Offset, b.Offset) })
	var ranges []fingerprint.Range
	for _, h := range hits {
		ranges = append(ranges, h.Range)
	}
	for _, h := range outside(ranges, out) {
		h.Partition, h.Filesystem, h.What = p.Number, kindLVM, "in no volume of LVM "+p.on()
		out = append(out, h)
	}
	return out
}

// name says of ranges in a partition, or in a volume, what they hit. on is where that is, in words.
func (p Partition) name(ctx context.Context, d Disk, hits []Hit, exact bool, on string) {
	words, f := on, p.Filesystem
	if f != nil {
		words = strings.TrimPrefix(words+", "+f.Kind, ", ")
		if f.Label != "" {
			words += fmt.Sprintf(" %q", f.Label)
		}
	}
	for i := range hits {
		if f != nil {
			hits[i].Filesystem, hits[i].Label = f.Kind, f.Label
		}
		hits[i].What = strings.TrimPrefix(words, "on ")
	}
	if f == nil {
		return
	}
	v, err := Mount(d, f.Kind, p.Offset, p.Length)
	if err != nil {
		return
	}
	free := unused(ctx, v, p.Offset, hits)
	all := v.owners(ctx, p.Offset, hits)
	for i := range hits {
		switch {
		case len(hits[i].Files) > 0:
			hits[i].What = several(hits[i].Files, exact) + " " + words
			hits[i].Files = hits[i].Files[:min(len(hits[i].Files), maxFiles)]
		case free[i]:
			hits[i].What = "free space " + words
		case !all:
			hits[i].What = "which files, was not found in time, or could not be read, " + words
		default:
			hits[i].What = "no file, but the filesystem's own structures " + words
		}
	}
}

// several names some files.
func several(files []string, exact bool) string {
	const most = 3
	words := strings.Join(files[:min(len(files), most)], ", ")
	switch n := len(files) - most; {
	case len(files) > maxFiles:
		words += " and more"
	case n > 0:
		words += fmt.Sprintf(" and %d more", n)
	}
	if len(files) > 1 && !exact {
		words = "one or more of " + words
	}
	return words
}

// unused tells which ranges a filesystem does not use, where its map is to be relied on.
func unused(ctx context.Context, v *Volume, start int64, hits []Hit) []bool {
	free := make([]bool, len(hits))
	if v.About().Doubt != "" {
		return free
	}
	used := make([]bool, len(hits))
	err := v.Used(ctx, func(r fingerprint.Range) error {
		for i, h := range hits {
			if at := h.Offset - start; at < r.Offset+r.Length && r.Offset < at+h.Length {
				used[i] = true
			}
		}
		return nil
	})
	for i := range free {
		free[i] = err == nil && !used[i]
	}
	return free
}

// owners finds the files with something in the ranges, and tells whether it saw all of them.
func (v *Volume) owners(ctx context.Context, start int64, hits []Hit) bool {
	all := true
	err := v.walk(ctx, func(name string, pieces []Piece, err error) {
		if err != nil {
			all = false
			return
		}
		for _, p := range pieces {
			if p.Data != nil {
				continue
			}
			for i, h := range hits {
				if at := h.Offset - start; at < p.At+p.Len && p.At < at+h.Length && len(h.Files) <= maxFiles && !slices.Contains(h.Files, name) {
					hits[i].Files = append(hits[i].Files, name)
				}
			}
		}
	})
	return all && err == nil
}

// walk calls each with where every file and folder lies, or with an error for one of which that cannot be read.
func (v *Volume) walk(ctx context.Context, each func(name string, pieces []Piece, err error)) error {
	seen := map[uint64]bool{}
	var folder func(node uint64, name string, depth int) error
	folder = func(node uint64, name string, depth int) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if seen[node] { // a folder that is in itself
			return nil
		}
		if depth > maxDepth {
			each(name, nil, errDeep)
			return nil
		}
		seen[node] = true
		list, err := v.List(node)
		if err != nil {
			each(name, nil, err)
			return nil
		}
		for _, e := range list {
			path := strings.TrimPrefix(name+"/"+e.Name, "/")
			info, err := v.Stat(e.Node)
			var pieces []Piece
			if err == nil {
				pieces, err = v.Pieces(e.Node)
			}
			if each(path, pieces, err); err == nil && info.Mode.IsDir() {
				if err := folder(e.Node, path, depth+1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return folder(v.Root(), "", 0)
}
