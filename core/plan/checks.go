package plan

import (
	"encoding/json"
	"errors"
	"fmt"
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
	if p.Disk.Request.Kind == Remove && d.VirtualSize == 0 { // what is no disk, or damaged, goes as it is
		p.checkInUse()
		return
	}
	if d.VirtualSize == 0 {
		p.add(Blocks, "source", "The source is empty (0 bytes): there is no disk in it. Fetch it again from where it came from.")
		return
	}
	opens := fmt.Sprintf("The source opens as %s, %s", d.Format, d.Layout)
	if s.Checked {
		opens += ", and its tables agree with each other"
	}
	p.add(Informs, "source", opens+".")
	p.checkInUse()
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
	if p.Disk.Request.Suspended {
		p.doubt("power-cut", "A machine used the disk, and was suspended while it was read: it is as a power cut would leave it.")
	}
	p.checkShares()
	p.checkSectors()
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

// otherDisk: what the source is compared with.
func (p *maker) otherDisk() {
	o := p.facts.Other
	if o == nil {
		return
	}
	at := *p.Disk.Request.AgainstDisk
	if o.Problem != nil {
		p.add(Blocks, "against", fmt.Sprintf("%s cannot be compared with: %v.", at, o.Problem))
		return
	}
	p.BytesToRead += o.Allocated
	for _, f := range append(append([]string{}, o.Description.Files...), o.Description.Chain...) {
		p.use(at.Pool, false, f)
	}
	if o.InUse != nil {
		p.add(Blocks, "against", fmt.Sprintf("%s: %v.", at, o.InUse))
	}
	if a, b := p.Disk.Before.VirtualSize, o.Description.VirtualSize; a != b {
		p.add(
			Warns,
			"against",
			fmt.Sprintf("The two disks have different sizes, %s and %s: they are not the same, and what both have is compared.", Bytes(a), Bytes(b)),
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
	first, _, _ := strings.Cut(s, " ")
	if first == "" || strings.ContainsAny(first, "./:_") {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
