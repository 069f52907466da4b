package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
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
		p.add(Blocks, "source", fmt.Sprintf("The source cannot be used: %v.", s.Problem), p.sourceRemedies()...)
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
	for _, w := range d.Warnings {
		p.add(Warns, "source-state", capital(w)+".")
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
	if p.After.VirtualSize > p.layout.Largest {
		p.add(Blocks, "largest-disk", fmt.Sprintf("%s, %s, holds at most %s, and the disk has %s.",
			p.format.Name, p.layout.Name, Bytes(p.layout.Largest), Bytes(d.VirtualSize)), p.otherFormats()...)
	}
	if p.After.VirtualSize != d.VirtualSize {
		p.add(Warns, "size", fmt.Sprintf("The virtual size is rounded up from %s to %s, since %s counts in units of %d bytes. What is added reads as zeros, "+
			"and the fingerprint changes with the size.", Bytes(d.VirtualSize), Bytes(p.After.VirtualSize), p.format.Name, p.layout.Granularity))
	}
	if n := len(d.Snapshots); n > 0 {
		p.add(Warns, "loss", fmt.Sprintf("%d snapshot(s) kept inside the source (%s) are not taken along: the new image has the present content only. The source keeps them.",
			n, strings.Join(d.Snapshots, ", ")))
	}
	if d.Base != "" {
		p.add(Informs, "chain", fmt.Sprintf("The source stands on %s: the new image has the content of the whole chain and stands alone.", d.Base))
	}
	if p.Request.NoProof {
		p.add(Warns, "proof", "The new image will not be read back: the job ends as unproven.", remedy("Prove it", map[string]any{"no_proof": nil}))
	}
}

// otherFormats offers those whose default layout can hold the disk.
func (p *maker) otherFormats() []Remedy {
	var out []Remedy
	for _, f := range disk.Formats() {
		l := f.Layouts[0]
		size := l.RoundUp(p.Before.VirtualSize)
		limit := p.facts.Destination.Space.LargestFile
		if f.Name == p.format.Name || size > l.Largest || limit > 0 && l.FileSize(size, p.facts.Destination.Stored) > limit {
			continue
		}
		name := p.Request.Destination.Path
		name = strings.TrimSuffix(name, path.Ext(name)) + f.Extensions[0]
		out = append(out, remedy(fmt.Sprintf("Convert to %s, %s", f.Name, l.Name),
			map[string]any{"as": f.Name, "layout": nil, "destination": map[string]any{"path": name}}))
	}
	return out
}

// checkDestination: what the pool's storage can take.
func (p *maker) checkDestination() {
	d, dest := p.facts.Destination, p.Request.Destination
	if d.Obstructed != nil {
		p.add(Blocks, "destination", fmt.Sprintf("The destination cannot be used: %v.", d.Obstructed))
		return
	}
	if d.Space.ReadOnly {
		p.add(Blocks, "destination", "The destination is read-only: choose another pool, or make this one writable for the user that runs Bagaglio.")
	}
	p.checkName()
	switch rename := remedy("Write to "+d.OtherName, map[string]any{"destination": map[string]any{"path": d.OtherName}}); {
	case d.SameFile:
		p.add(Blocks, "destination", "Source and destination are the same file: choose another name.", rename)
	case d.Exists && !p.Request.Replace:
		p.add(Blocks, "destination", fmt.Sprintf("%s exists already, and nothing is overwritten unasked.", dest), rename,
			remedy("Replace it, once the new one is proven", map[string]any{"replace": true}))
	case d.Exists:
		p.add(Warns, "destination", fmt.Sprintf("%s is replaced and then gone; it stays until the new one is complete%s.", dest, map[bool]string{false: " and proven", true: ""}[p.Request.NoProof]))
	}
	need := p.After.FileSize
	if !p.layout.Thick && p.format.Name == "raw" {
		need = p.After.AllocatedSize
	}
	if need > d.Space.Free {
		var remedies []Remedy
		if thin := p.format.Layouts[0]; p.layout.Thick && !thin.Thick && thin.StoredSize(d.Stored) < d.Space.Free {
			remedies = append(remedies, remedy("Use the layout "+thin.Name, map[string]any{"layout": thin.Name}))
		}
		p.add(Blocks, "room", fmt.Sprintf("The new image needs %s, and %s are free: make room or choose another pool.", Bytes(need), Bytes(d.Space.Free)), remedies...)
	} else {
		p.add(Informs, "room", fmt.Sprintf("The new image needs %s at most, and %s are free.", Bytes(need), Bytes(d.Space.Free)))
	}
	if limit := d.Space.LargestFile; limit > 0 && p.After.FileSize > limit {
		p.add(Blocks, "largest-file", fmt.Sprintf("The file may become %s long, and the destination (%s) holds files of at most %s.",
			Bytes(p.After.FileSize), d.Space.Kind, Bytes(limit)), p.otherFormats()...)
	}
}

// checkName: a name that claims another format would be refused by everybody who opens it later.
func (p *maker) checkName() {
	name := p.Request.Destination.Path
	claimed := disk.Claim(name)
	if claimed == "" || claimed == p.format.Name {
		return
	}
	right := strings.TrimSuffix(name, path.Ext(name)) + p.format.Extensions[0]
	remedies := []Remedy{remedy("Write to "+right, map[string]any{"destination": map[string]any{"path": right}})}
	if _, err := disk.Lookup(claimed); err == nil {
		remedies = append(remedies, remedy("Convert to "+claimed, map[string]any{"as": claimed, "layout": nil}))
	}
	p.add(Blocks, "name", fmt.Sprintf("The name %s claims %s, but the image will be %s.", path.Base(name), claimed, p.format.Name), remedies...)
}
