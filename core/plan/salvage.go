package plan

import (
	"errors"
	"fmt"
)

func (r ConvertRequest) validateDying() error {
	switch {
	case !r.Dying && r.GoOnFrom == "":
		return nil
	case !r.Dying:
		return errors.New("it goes on from an earlier image where a disk is dying: say that it is")
	case !r.Source.IsDevice():
		return errors.New("only a disk of a computer is dying: an image is converted past its damage (past_damage)")
	case r.Size != 0 || r.Smallest:
		return errors.New("a dying disk is read first, and its image gets another size then")
	case r.Recopy || r.InUse != "":
		return errors.New("a dying disk is read once, and by nobody else: unmount it")
	}
	return nil
}

// salvages plans to read a disk that fails.
func (p *maker) salvages() {
	if !p.Disk.Request.Dying {
		return
	}
	p.add(
		Informs,
		"dying",
		"What reads well is read first, then what does not, in ever smaller parts; no place is read twice. What was read stays when it is interrupted, "+
			"and a later capture of the same disk goes on from there.",
	)
	p.step(StepSalvage, p.Disk.Before.AllocatedSize, "Read what can be read, what reads well first")
	if need, free := p.Disk.Before.AllocatedSize, p.facts.Scratch; need > free {
		p.add(
			Blocks,
			"scratch",
			fmt.Sprintf("What is read needs up to %s in the folder for what is made on the way, and %s are free there.", Bytes(need), Bytes(free)),
		)
	}
}
