package plan

import (
	"fmt"
	"path"
	"strings"

	"bagaglio/core/disk"
)

// checkTarget: what the format asked for can hold.
func (p *maker) checkTarget() {
	d := p.facts.Source.Description
	o := p.Disk.Request.Options
	if limit := p.layout.LimitFor(o); p.Disk.After.VirtualSize > limit {
		p.add(Blocks, "largest-disk", fmt.Sprintf(
			"%s, %s, holds at most %s%s, and the disk has %s.",
			p.format.Name,
			p.layout.Name,
			Bytes(limit),
			map[bool]string{true: " with these options"}[limit < p.layout.Largest],
			Bytes(p.size()),
		), p.otherLayouts()...)
	}
	if p.Disk.After.VirtualSize != p.size() {
		why := fmt.Sprintf("since %s counts in units of %d bytes", p.format.Name, max(p.layout.Granularity, o.SectorSize))
		if p.Disk.Request.RoundTo > 0 {
			why = fmt.Sprintf("to a multiple of %s as asked for", Bytes(p.Disk.Request.RoundTo))
		}
		p.add(Warns, "size", fmt.Sprintf("The virtual size is rounded up from %s to %s, %s. What is added reads as zeros, "+
			"and the fingerprint changes with the size.", Bytes(p.size()), Bytes(p.Disk.After.VirtualSize), why))
	}
	if from, to := max(d.SectorSize, plainSector), max(o.SectorSize, plainSector); from != to && (d.SectorSize > 0 || o.SectorSize > 0) {
		p.add(
			Warns,
			"sectors",
			fmt.Sprintf(
				"The guest will see sectors of %d bytes instead of %d: a partition table counts in sectors, so that it does not find its partitions. "+
					"The content is not changed.",
				to,
				from,
			),
		)
	}
	p.checkSnapshots(d.Snapshots)
	if d.Base != "" {
		p.add(
			Informs,
			"chain",
			fmt.Sprintf(
				"The source stands on %s: the new image has the content of the whole chain%s.",
				d.Base,
				map[bool]string{false: " and stands alone"}[p.layout.Stands],
			),
		)
	}
	if p.Disk.Request.NoProof {
		p.add(
			Warns,
			"proof",
			"The new image will not be read back: the job ends as unproven.",
			remedy("Prove it", map[string]any{"no_proof": nil}),
		)
	}
}

// checkSnapshots: an image is made of one state of a disk.
func (p *maker) checkSnapshots(snapshots []string) {
	of := func(name any, label string) Remedy {
		return remedy(label, map[string]any{"source": map[string]any{"snapshot": name}})
	}
	if one := p.Disk.Request.Source.Snapshot; one != "" {
		p.add(
			Informs,
			"snapshot",
			fmt.Sprintf("The new image has the content of the snapshot %s, not the present one.", one),
			of(nil, "Take the present content"),
		)
		return
	}
	if len(snapshots) == 0 {
		return
	}
	var remedies []Remedy
	for _, name := range snapshots[:min(len(snapshots), mostOffered)] {
		remedies = append(remedies, of(name, "Take the snapshot "+name+" instead"))
	}
	p.add(
		Warns,
		"loss",
		fmt.Sprintf(
			"%d snapshot(s) kept inside the source (%s) are not taken along: the new image has the present content only. The source keeps them.",
			len(snapshots),
			strings.Join(snapshots, ", "),
		),
		remedies...)
}

// mostOffered bounds how many remedies of one kind a check has.
const mostOffered = 5

// plainSector is what a disk has whose format says nothing of sectors.
const plainSector = 512

// otherLayouts offers those that can hold the disk: the default of each other format, and those in pieces.
func (p *maker) otherLayouts() []Remedy {
	var out []Remedy
	for _, f := range disk.Formats() {
		for i, l := range f.Layouts {
			inPieces := l.PieceSize(disk.Options{}) > 0 && !l.Thick
			if f.Name == p.format.Name && (l.Name == p.layout.Name || !inPieces) || i > 0 && !inPieces {
				continue
			}
			size := l.RoundUp(p.size(), disk.Options{}, p.Disk.Request.RoundTo)
			limit := p.facts.Destination.Space.LargestFile
			if size > l.LimitFor(disk.Options{}) || limit > 0 && p.largestFile(l, disk.Options{}, size) > limit {
				continue
			}
			change := map[string]any{"as": f.Name, "layout": l.Name, "destination": map[string]any{"path": p.rename(f)}}
			if p.Disk.Request.Kind == Copy {
				change = p.asConversion(f, l.Name, change)
			}
			if i == 0 {
				change["layout"] = nil
			}
			out = append(out, remedy(fmt.Sprintf("Convert to %s, %s", f.Name, l.Name), p.without(change)))
		}
	}
	return out
}

// rename is the destination's name with the extension of a format.
func (p *maker) rename(f disk.Format) string {
	name := p.Disk.Request.Destination.Path
	return strings.TrimSuffix(name, path.Ext(name)) + f.Extensions[0]
}

// without adds to a change of the layout that its options and its base go.
func (p *maker) without(change map[string]any) map[string]any {
	if p.Disk.Request.Options != (disk.Options{}) {
		change["options"] = nil
	}
	if p.Disk.Request.Base != "" {
		change["base"] = nil
	}
	return change
}

// largestFile is the length of the longest file of an image.
func (p *maker) largestFile(l disk.Layout, o disk.Options, size int64) int64 {
	all := l.FileSize(size, o, p.facts.Destination.Stored)
	piece := l.PieceSize(o)
	if piece == 0 {
		return all
	}
	full := disk.Stored{}
	for _, unit := range l.Units(piece, o) {
		full[unit] = piece
	}
	return min(all, l.FileSize(piece, o, full))
}
