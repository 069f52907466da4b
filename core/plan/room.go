package plan

import (
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// checkRoom: whether the new files fit.
func (p *maker) checkRoom() {
	d := p.facts.Destination
	need, whole := p.Disk.After.FileSize, p.Disk.After.FileSize
	switch {
	case p.Disk.Request.Kind == Copy:
		need, whole = d.ToCopy, p.copiedSize()
	case !p.layout.Thick && p.format.Name == "raw": // whose files have holes
		need = p.Disk.After.AllocatedSize
	}
	if p.Disk.Adapt != nil { // it is made a second time, beside the proven one
		need, whole = 2*need, 2*whole
	}
	if !d.Space.Holes && (p.Disk.Request.Kind == Copy || p.format.Name == "raw") && need < whole {
		p.add(Warns, "holes", fmt.Sprintf("Files have no holes there (%s): %s take %s.", d.Space.Kind, Bytes(need), Bytes(whole)))
		need = whole
	}
	if d.Space.Free == storage.Unknown {
		p.add(Warns, "room", fmt.Sprintf("The new image needs %s, and the destination does not tell how much is free.", Bytes(need)))
		p.checkLargest()
		return
	}
	free := d.Space.Free
	if p.Disk.Request.ClearHeld && d.Held > 0 {
		free += d.Held
		p.add(
			Warns,
			"held",
			fmt.Sprintf("What is held of replaced disks in this pool, %s, is removed for good before anything is written.", Bytes(d.Held)),
			remedy("Keep it", map[string]any{"clear_held": nil}),
		)
	}
	if likely := p.likely(need); need > free && likely <= free {
		p.add(
			Warns,
			"room",
			fmt.Sprintf(
				"The new image needs about %s, by a sample of the content, and %s at worst; %s are free. Should they not do, the job pauses, and goes on when there is room.",
				Bytes(likely),
				Bytes(need),
				Bytes(free),
			),
		)
	} else if need > free {
		var remedies []Remedy
		if !p.Disk.Request.ClearHeld && d.Held > 0 && need <= free+d.Held {
			remedies = append(
				remedies,
				remedy(fmt.Sprintf("Remove what is held of replaced disks first (%s)", Bytes(d.Held)), map[string]any{"clear_held": true}),
			)
		}
		if thin := p.format.Layouts[0]; p.layout.Thick && !thin.Thick &&
			thin.StoredSize(p.Disk.After.VirtualSize, disk.Options{}, d.Stored) < d.Space.Free {
			remedies = append(remedies, remedy("Use the layout "+thin.Name, p.without(map[string]any{"layout": thin.Name})))
		}
		p.add(
			Blocks,
			"room",
			fmt.Sprintf("The new image needs %s, and %s are free: make room or choose another pool.", Bytes(likely), Bytes(free)),
			remedies...)
	} else {
		p.add(Informs, "room", fmt.Sprintf("The new image needs %s at most, and %s are free.", Bytes(need), Bytes(free)))
	}
	p.checkLargest()
}

// spareForSample is how much more than a sample says is reckoned with.
const spareForSample = 1.1

// likely is what a new image will need that needs so much in the worst case.
func (p *maker) likely(worst int64) int64 {
	if p.Disk.Request.Kind != Convert || !p.layout.Compresses {
		return worst
	}
	return min(worst, worst-p.Disk.After.AllocatedSize+int64(spareForSample*p.facts.Destination.Shrinks*float64(p.Disk.After.AllocatedSize)))
}

// checkLargest: whether the filesystem holds files that long.
func (p *maker) checkLargest() {
	d := p.facts.Destination
	var longest int64
	if p.Disk.Request.Kind == Copy {
		for _, c := range p.Copied {
			longest = max(longest, c.Size)
		}
	} else {
		longest = p.largestFile(p.layout, p.Disk.Request.Options, p.Disk.After.VirtualSize)
	}
	if limit := d.Space.LargestFile; limit > 0 && longest > limit {
		p.add(Blocks, "largest-file", fmt.Sprintf("The file may become %s long, and the destination (%s) holds files of at most %s.",
			Bytes(longest), d.Space.Kind, Bytes(limit)), p.otherLayouts()...)
	}
}
