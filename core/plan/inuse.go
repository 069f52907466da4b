package plan

import (
	"errors"
	"fmt"
	"regexp"
	"time"
)

// Ways to read a disk of a computer that is in use.
const (
	// InUseFreeze freezes the filesystems on it while it is read: it is as it was at one moment, as after a power cut.
	InUseFreeze = "freeze"
	// InUseKeepUp reads it while it changes, reads again what was written to meanwhile, and freezes the filesystems for the last of it: then it is as it was
	// at that moment, as after a power cut.
	InUseKeepUp = "keep-up"
	// InUseSnapshot reads a volume as it is at one moment from a snapshot of it, which is removed afterwards: it is what a power cut would leave.
	InUseSnapshot = "snapshot"
	// InUseAsItIs reads it while it changes: files that are written meanwhile are torn.
	InUseAsItIs = "as-it-is"
)

// UsualFreeze is for how long filesystems are frozen where the request does not say, and LongestFreeze at most, in seconds.
const (
	UsualFreeze   = 60
	LongestFreeze = 3600
)

// programName is what a program that is told can be called.
var programName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

func validateInUse(source Place, how string, longest int, tell string) error {
	switch {
	case tell != "" && how != InUseFreeze && how != InUseKeepUp:
		return errors.New("a program is told of a freeze: say that the disk is frozen")
	case tell != "" && !programName.MatchString(tell):
		return fmt.Errorf("%q is no name of a program", tell)
	case how == "" && longest != 0:
		return errors.New("a time to freeze is one of a disk that is in use, and is frozen")
	case how == "":
		return nil
	case how == InUseSnapshot && source.IsDevice():
		return errors.New("a disk of a computer has no snapshots: freeze its filesystems, or keep up with what is written")
	case how == InUseSnapshot:
		return nil
	case !source.IsDevice():
		return errors.New(
			"only a disk of a computer, or a snapshot of a volume, is read while it is in use: shut the machine down, or suspend it",
		)
	case how != InUseFreeze && how != InUseKeepUp && how != InUseAsItIs:
		return fmt.Errorf("a disk that is in use is read %q, %q or %q, not %q", InUseFreeze, InUseKeepUp, InUseAsItIs, how)
	case longest < 0 || longest > LongestFreeze:
		return fmt.Errorf("filesystems are frozen for up to %d seconds", LongestFreeze)
	}
	return nil
}

// Freezes is for how long filesystems are frozen at most.
func (r Request) Freezes() time.Duration {
	if r.LongestFreeze == 0 {
		return UsualFreeze * time.Second
	}
	return time.Duration(r.LongestFreeze) * time.Second
}

// checkInUse: what somebody uses is read in one of some ways, each of which guarantees something else.
func (p *maker) checkInUse() {
	why := p.facts.Source.InUse
	r := p.Disk.Request
	if why == nil {
		return
	}
	if !r.Source.IsDevice() {
		p.snaps(why)
		return
	}
	if r.Kind != Convert {
		p.Checks = append(p.Checks, SourceInUse(why))
		return
	}
	switch r.InUse {
	case InUseFreeze:
		p.doubt(
			"in-use",
			fmt.Sprintf(
				"%s. Its filesystems are frozen while it is read, for %d seconds at most: whoever writes waits. The image is what a power cut "+
					"would leave at that moment.",
				capital(why.Error()),
				int(r.Freezes().Seconds()),
			),
		)
		p.tells()
	case InUseKeepUp:
		p.keepsUp(why)
	case InUseAsItIs:
		p.doubt(
			"in-use",
			fmt.Sprintf("%s. It is read as it is: files that are written meanwhile are torn, and databases are no good.", capital(why.Error())),
		)
	default:
		p.add(
			Blocks,
			"in-use",
			capital(why.Error())+".",
			remedy(
				fmt.Sprintf("Freeze its filesystems while it is read, for %d seconds at most: the image is what a power cut would leave", UsualFreeze),
				map[string]any{"in_use": InUseFreeze},
			),
			remedy(
				"Read it while it is written to, and freeze it only for the last of what was written: the image is what a power cut would leave",
				map[string]any{"in_use": InUseKeepUp},
			),
			remedy("Read it as it is: files that are written meanwhile are torn", map[string]any{"in_use": InUseAsItIs}),
		)
	}
}

// tells says that a program is told of a freeze.
func (p *maker) tells() {
	if tell := p.Disk.Request.Tell; tell != "" {
		p.add(Informs, "tell", fmt.Sprintf("The program %s is told on its computer before and afterwards.", tell))
	}
}

// keepsUp: what is read while somebody writes to it is written again, which not every image can be.
func (p *maker) keepsUp(why error) {
	r := p.Disk.Request
	p.doubt("in-use", fmt.Sprintf(
		"%s. It is read meanwhile, what is written to is read again, and for the last of that its filesystems are frozen, for %d seconds at most. The image is "+
			"what a power cut would leave at that moment.",
		capital(why.Error()),
		int(r.Freezes().Seconds()),
	))
	p.tells()
	frozen := remedy("Freeze its filesystems all the while", map[string]any{"in_use": InUseFreeze})
	if p.layout.Compresses {
		p.add(
			Blocks,
			"in-use",
			fmt.Sprintf("What is compressed (%s, %s) cannot be written twice, as a disk needs that changes while it is read: choose another "+
				"layout, and compress the image afterwards.", p.format.Name, p.layout.Name),
			remedy("Do not compress it", map[string]any{"layout": nil}),
			frozen,
		)
	}
	if r.Refits() {
		p.add(Blocks, "in-use", "Filesystems are made to fit on copies of what does not change: capture it as it is, and then resize the image.",
			remedy("Leave its size", map[string]any{"size": nil, "smallest": nil, "grow": nil}), frozen)
	}
}

// snaps: a volume that somebody uses is read from a snapshot, where that is asked for.
func (p *maker) snaps(why error) {
	r := p.Disk.Request
	if !p.facts.Source.Snaps || r.Kind != Convert || r.Release {
		p.Checks = append(p.Checks, SourceInUse(why))
		return
	}
	if r.InUse != InUseSnapshot {
		p.add(Blocks, "in-use", capital(why.Error())+".",
			remedy("Read it from a snapshot: the image is what a power cut would leave", map[string]any{"in_use": InUseSnapshot}))
		return
	}
	p.doubt(
		"in-use",
		capital(
			why.Error(),
		)+". It is read from a snapshot, which is removed afterwards: the image is what a power cut would leave at that moment.",
	)
}
