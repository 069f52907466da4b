package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
)

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
	case d.Onto != "":
		p.add(
			Blocks,
			"destination",
			fmt.Sprintf("%s lies on the disk that is read, %s: choose a place on another one.", dest, p.Disk.Request.Source),
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
