package plan

import (
	"errors"
	"fmt"
	"strings"

	"bagaglio/core/fit"
)

// Refits tells whether the new image gets another size, with what is on it made to fit.
func (r Request) Refits() bool { return r.Size > 0 || r.Smallest }

// TakesAll tells whether the new image has all that the source has, where that has it: it can be compared with what is known of the source.
func (r Request) TakesAll() bool { return r.Selection().All() && !r.Refits() }

// Wish is what size is asked for.
func (r Request) Wish() fit.Wish { return fit.Wish{Size: r.Size, Grow: r.Grow} }

func (r ConvertRequest) validateFit() error {
	switch refits := r.Size != 0 || r.Smallest; {
	case r.Size < 0 || r.Size > 1<<62:
		return fmt.Errorf("a disk cannot have a size of %d bytes", r.Size)
	case r.Size > 0 && r.Smallest:
		return errors.New("a disk gets a size, or the smallest that is possible: not both")
	case r.Grow != "" && r.Size == 0:
		return errors.New("a partition is made larger when the disk is: give it a size")
	case refits && r.Base != "":
		return errors.New("a disk that stands on a base has the size of that")
	case refits && r.Recopy:
		return errors.New("what a disk gets another size of does not change meanwhile")
	case refits && r.Tag != "":
		return errors.New("a tag is of the whole disk: it proves nothing of one with another size")
	case refits && r.IfSmaller:
		return errors.New("an image that gets another size is no smaller image of the same disk")
	}
	return nil
}

// size is the virtual size of what is read.
func (p *maker) size() int64 {
	if l := p.facts.Source.Fit; l != nil {
		return l.Size
	}
	return p.Disk.Before.VirtualSize
}

// fits plans what is done so that the disk fits to its new size, and says it.
func (p *maker) fits() {
	if !p.Disk.Request.Refits() {
		return
	}
	l := p.facts.Source.Fit
	if l == nil {
		p.add(Blocks, "size", fmt.Sprintf("%s.", capital(p.facts.Source.Unfit.Error())), p.leastSize()...)
		return
	}
	p.Disk.Fit = l
	p.add(
		Informs,
		"size",
		fmt.Sprintf("The virtual size becomes %s, from %s: the fingerprint is of the new disk.", Bytes(l.Size), Bytes(l.Before)),
	)
	for _, part := range l.Parts {
		p.fitsPart(part)
	}
	for _, note := range l.Notes {
		p.add(Warns, "size", capital(note)+".")
	}
	if l.Scratch() == 0 {
		return
	}
	p.step(StepFit, p.Disk.Before.AllocatedSize, "Make the filesystems fit, on copies of them")
	if need, free := min(l.Scratch(), 2*p.Disk.Before.AllocatedSize), p.facts.Scratch; need > free {
		p.add(Blocks, "scratch", fmt.Sprintf(
			"The copies of filesystems that are changed need up to %s in the folder for what is made on the way, and %s are free there.",
			Bytes(need), Bytes(free)))
	}
}

// fitsPart says what becomes of a partition.
func (p *maker) fitsPart(part fit.Part) {
	var words []string
	switch {
	case part.Length != part.FromLength:
		words = append(words, fmt.Sprintf("%s instead of %s", Bytes(part.Length), Bytes(part.FromLength)))
	case part.Offset == part.From:
		return
	}
	if part.Offset != part.From {
		words = append(words, fmt.Sprintf("begins at %s instead of %s", Bytes(part.Offset), Bytes(part.From)))
	}
	severity := Informs
	switch {
	case part.Resized:
		words = append(words, "its filesystem is made to fit on a copy, and every file is compared before and after")
	case part.Note != "":
		words = append(words, part.Note)
		severity = Warns
	}
	p.add(severity, "size", fmt.Sprintf("%s: %s.", part.Called(), strings.Join(words, "; ")))
}

// leastSize offers the smallest size that is possible.
func (p *maker) leastSize() []Remedy {
	var e *fit.SizeError
	if !errors.As(p.facts.Source.Unfit, &e) || e.Least >= p.Disk.Before.VirtualSize {
		return nil
	}
	return []Remedy{remedy("Make it as small as possible, "+Bytes(e.Least), map[string]any{"size": nil, "smallest": true})}
}
