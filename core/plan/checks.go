package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"

	"github.com/dustin/go-humanize"
)

func (p *maker) add(s Severity, name, message string, remedies ...Remedy) {
	p.Checks = append(p.Checks, Check{name, s, message, remedies})
}

func remedy(label string, change map[string]any) Remedy {
	b, err := json.Marshal(change)
	if err != nil {
		panic(err) // only for values that JSON cannot hold
	}
	return Remedy{label, b}
}

// Bytes writes a size for people: in binary units with the exact count at hand.
func Bytes(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d bytes", n)
	}
	return fmt.Sprintf("%s (%s bytes)", humanize.IBytes(uint64(n)), humanize.Comma(n))
}

func (p *maker) checkSource() {
	s := p.facts.Source
	if s.Problem != nil {
		name := "source"
		if errors.Is(s.Problem, disk.ErrIncomplete) {
			name = Incomplete
		}
		p.add(Blocks, name, fmt.Sprintf("The source cannot be used: %v.", s.Problem), p.sourceRemedies()...)
		return
	}
	d := s.Description
	if d.VirtualSize == 0 {
		p.add(Blocks, "source", "The source is empty (0 bytes): there is no disk in it. Fetch it again from where it came from.")
		return
	}
	opens := fmt.Sprintf("The source opens as %s, %s", d.Format, d.Layout)
	if s.Checked {
		opens += ", and its tables agree with each other"
	}
	p.add(Informs, "source", opens+".")
	if s.InUse != nil {
		p.Checks = append(p.Checks, SourceInUse(s.InUse))
	}
	for _, w := range d.Warnings {
		p.doubt("source-state", capital(w)+".")
	}
	if s.AtLeast {
		p.add(
			Warns,
			"scattered",
			fmt.Sprintf(
				"The disk is so scattered that it was not counted to its end: at least %s are stored, and what is said of sizes and times is at least that.",
				Bytes(s.Allocated),
			),
		)
	}
	p.checkKnown()
	by := func(geometry any, label string) Remedy {
		return remedy(label, map[string]any{"source": map[string]any{"by_geometry": geometry}})
	}
	switch {
	case d.OtherSize > d.VirtualSize:
		p.add(
			Warns,
			"geometry",
			fmt.Sprintf("The disk is read up to where its geometry ends: %s of %s.", Bytes(d.VirtualSize), Bytes(d.OtherSize)),
			by(nil, "Read all of it"),
		)
	case d.OtherSize > 0:
		p.add(
			Informs,
			"geometry",
			fmt.Sprintf("All of the disk is read: %s. A machine that went by the geometry saw only %s.", Bytes(d.VirtualSize), Bytes(d.OtherSize)),
			by(true, "Read it up to where its geometry ends"),
		)
	}
}

// sourceRemedies offers to name the format where name and content disagree.
func (p *maker) sourceRemedies() []Remedy {
	var m *disk.MismatchError
	if !errors.As(p.facts.Source.Problem, &m) {
		return nil
	}
	var out []Remedy
	for _, f := range []string{m.Claimed, m.Found} {
		if _, err := disk.Lookup(f); err == nil {
			out = append(out, remedy("I know that it is "+f, map[string]any{"source": map[string]any{"format": f}}))
		}
	}
	return out
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

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
			Bytes(d.VirtualSize),
		), p.otherLayouts()...)
	}
	if p.Disk.After.VirtualSize != d.VirtualSize {
		why := fmt.Sprintf("since %s counts in units of %d bytes", p.format.Name, max(p.layout.Granularity, o.SectorSize))
		if p.Disk.Request.RoundTo > 0 {
			why = fmt.Sprintf("to a multiple of %s as asked for", Bytes(p.Disk.Request.RoundTo))
		}
		p.add(Warns, "size", fmt.Sprintf("The virtual size is rounded up from %s to %s, %s. What is added reads as zeros, "+
			"and the fingerprint changes with the size.", Bytes(d.VirtualSize), Bytes(p.Disk.After.VirtualSize), why))
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
			size := l.RoundUp(p.Disk.Before.VirtualSize, disk.Options{}, p.Disk.Request.RoundTo)
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

// checkDestination: what the pool's storage can take.
func (p *maker) checkDestination() {
	d, dest := p.facts.Destination, p.Disk.Request.Destination
	if d.Obstructed != nil {
		p.add(Blocks, "destination", fmt.Sprintf("The destination cannot be used: %v.", d.Obstructed))
		return
	}
	if d.Space.ReadOnly {
		p.add(
			Blocks,
			"destination",
			"The destination is read-only: choose another pool, or make this one writable for the user that runs Bagaglio.",
		)
	}
	p.checkName()
	switch rename := remedy("Write to "+d.OtherName, map[string]any{"destination": map[string]any{"path": d.OtherName}}); {
	case len(d.Leftover) > 0:
		p.add(
			Blocks,
			"destination",
			fmt.Sprintf(
				"Files that lie there would become a part of the new disk (%s): remove them, or choose another name.",
				strings.Join(d.Leftover, ", "),
			),
			rename,
		)
	case d.SameFile != "" && d.SameFile != p.facts.Source.Opens && slices.Contains(p.facts.Source.Description.Chain, d.SameFile):
		p.add(
			Blocks,
			"destination",
			fmt.Sprintf(
				"The source stands on %s: it cannot be written over while it is read, nor before nothing stands on it any more. Choose another name.",
				d.SameFile,
			),
			rename,
		)
	case d.SameFile != "" && p.Disk.Request.inPlace():
		p.checkInPlace()
	case d.SameFile != "" && slices.Contains(p.facts.Source.FamilyFiles(), d.SameFile):
		p.add(
			Blocks,
			"destination",
			fmt.Sprintf(
				"%s, which comes along, would be copied onto itself: choose another folder, or rename the disk with all that stands on it (move).",
				d.SameFile,
			),
		)
	case d.SameFile != "":
		p.add(Blocks, "destination", "Source and destination are the same file: choose another name.", rename)
	case d.Exists && !p.Disk.Request.Replace:
		remedies := []Remedy{rename, remedy("Replace it, once the new one is proven", map[string]any{"replace": true})}
		if p.Disk.Request.Kind == Copy && p.facts.Source.Description.Base != "" && p.Disk.Request.Chain != ChainAlone {
			remedies = append(remedies, remedy("Copy it alone, onto the base that lies there", map[string]any{"chain": ChainAlone}))
		}
		p.add(Blocks, "destination", fmt.Sprintf("%s exists already, and nothing is overwritten unasked.", dest), remedies...)
	case len(d.Standing) > 0:
		p.Checks = append(p.Checks, StandsOnReplaced(d.Standing, rename))
	case d.InUse != nil:
		p.Checks = append(p.Checks, ReplacedInUse(d.InUse, rename))
	case d.Exists:
		p.Displaced = d.Others
		p.add(
			Warns,
			"destination",
			fmt.Sprintf(
				"%s is replaced. It stays until the new one is complete%s, and is then held for a while, to be restored.",
				dest,
				map[bool]string{false: " and proven", true: ""}[p.Disk.Request.NoProof],
			),
		)
	}
	p.checkRemovable()
	p.checkRules()
	p.Owner, p.Mode = d.Rules.Owner, d.Rules.Mode
	p.checkKeeping()
	p.checkKnowledge()
	defer p.checkRelease()
	if !p.Renames {
		p.checkRoom()
	}
}

// inPlace tells whether a disk is made anew in its own place.
func (r Request) inPlace() bool {
	return r.Replace && r.Kind == Convert && !r.Release && r.Source.Pool == r.Destination.Pool
}

// checkInPlace: what holds for a disk that is made anew in its own place.
func (p *maker) checkInPlace() {
	d := p.facts.Destination
	if len(p.facts.Source.Standing) > 0 {
		p.Checks = append(p.Checks, StandsOnSource(p.Disk.Request, p.facts.Source.Standing, true))
		return
	}
	p.checkLinks()
	p.Displaced = d.Others
	p.add(
		Warns,
		"destination",
		fmt.Sprintf(
			"The disk is made anew in its place. As it is now it stays until the new one is complete%s, and is then held for a while: its room comes back when that is cleared.",
			map[bool]string{false: " and proven"}[p.Disk.Request.NoProof],
		),
	)
}

// checkLinks: a link that goes away leaves what it leads to, and one that is made anew is a link no more.
func (p *maker) checkLinks() {
	for _, l := range p.facts.Source.Links {
		var remedies []Remedy
		if l.Name == p.Disk.Request.Source.Path && !path.IsAbs(l.To) && !strings.HasPrefix(l.To, "../") {
			remedies = append(remedies, remedy("Take "+l.To+" itself", map[string]any{"source": map[string]any{"path": l.To}}))
		}
		p.add(
			Blocks,
			"link",
			fmt.Sprintf("%s is a link to %s: it can be read, but what goes away has to be the file itself.", l.Name, l.To),
			remedies...)
	}
}

// checkRemovable: what to know of a drive that may be unplugged.
func (p *maker) checkRemovable() {
	if p.facts.Destination.Space.Removable {
		p.add(Informs, "removable", "The destination is a removable drive: leave it connected until the receipt says that it is safe to unplug.")
	}
}

// checkName: a name that claims another format would be refused by everybody who opens it later.
func (p *maker) checkName() {
	name := p.Disk.Request.Destination.Path
	claimed := disk.Claim(name)
	if claimed == "" || claimed == p.format.Name {
		return
	}
	right := p.rename(p.format)
	remedies := []Remedy{remedy("Write to "+right, map[string]any{"destination": map[string]any{"path": right}})}
	if _, err := disk.Lookup(claimed); err == nil {
		remedies = append(remedies, remedy("Convert to "+claimed, p.without(map[string]any{"as": claimed, "layout": nil})))
	}
	p.add(
		Blocks,
		"name",
		fmt.Sprintf("The name %s claims %s, but the image will be %s.", path.Base(name), claimed, p.format.Name),
		remedies...)
}

// checkBase: what the new image is to stand on.
func (p *maker) checkBase() {
	b := p.facts.Destination.Base
	if b == nil {
		return
	}
	alone := remedy("Make an image that stands alone", p.without(map[string]any{"layout": nil}))
	switch d := b.Description; {
	case b.Problem != nil:
		p.add(Blocks, "base", fmt.Sprintf("The base %s cannot be used: %v.", p.Disk.Request.Base, b.Problem), alone)
	case b.Written:
		p.add(Blocks, "base", "The new image would take the place of its own base: choose another name.")
	case p.layout.OwnBase && d.Format != p.format.Name:
		p.add(
			Blocks,
			"base",
			fmt.Sprintf(
				"%s, %s, stands only on a base of its own format, and %s is %s.",
				p.format.Name,
				p.layout.Name,
				p.Disk.Request.Base,
				d.Format,
			),
			alone,
		)
	case p.layout.OwnBase && d.VirtualSize != p.Disk.After.VirtualSize:
		p.add(
			Blocks,
			"base",
			fmt.Sprintf("%s, %s, stands only on a base of its own size, and %s has %s where the new image has %s.", p.format.Name, p.layout.Name,
				p.Disk.Request.Base, Bytes(d.VirtualSize), Bytes(p.Disk.After.VirtualSize)),
			alone,
		)
	default:
		p.add(
			Informs,
			"base",
			fmt.Sprintf(
				"The new image holds only what differs from %s (%s, %s) and is read together with it: keep both, and never write to the base again.",
				p.Disk.Request.Base,
				d.Format,
				d.Layout,
			),
		)
	}
}
