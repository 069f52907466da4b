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
	case tell != "" && how != InUseFreeze:
		return errors.New("a program is told of a freeze: say that the disk is frozen")
	case tell != "" && !programName.MatchString(tell):
		return fmt.Errorf("%q is no name of a program", tell)
	case how == "" && longest != 0:
		return errors.New("a time to freeze is one of a disk that is in use, and is frozen")
	case how == "":
		return nil
	case !source.IsDevice():
		return errors.New("only a disk of a computer is read while it is in use: shut the machine down, or suspend it")
	case how != InUseFreeze && how != InUseAsItIs:
		return fmt.Errorf("a disk that is in use is read %q or %q, not %q", InUseFreeze, InUseAsItIs, how)
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
	if !r.Source.IsDevice() || r.Kind != Convert {
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
		if r.Tell != "" {
			p.add(Informs, "tell", fmt.Sprintf("The program %s is told on its computer before and afterwards.", r.Tell))
		}
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
			remedy("Read it as it is: files that are written meanwhile are torn", map[string]any{"in_use": InUseAsItIs}),
		)
	}
}
