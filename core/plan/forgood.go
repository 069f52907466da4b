package plan

import "slices"

// ForGood says what a plan takes away for good, in words: what no undo brings back, and nothing is held of. Nothing, for most plans.
func (p Plan) ForGood() (gone []string) {
	say := func(what string) {
		if !slices.Contains(gone, what) {
			gone = append(gone, what)
		}
	}
	requests := []Request{p.Request}
	for _, d := range p.Bodies {
		requests = append(requests, d.Request)
	}
	for _, r := range requests {
		if r.ClearHeld && r.Destination != nil {
			say("what " + r.Destination.Pool + " holds of replaced disks")
		}
	}
	for _, s := range p.Steps {
		if s.Kind != StepWipe && s.Kind != StepOverwrite || s.Back {
			continue
		}
		for _, u := range s.Uses {
			if u.Writes {
				say("what is on " + Place{Pool: u.Pool, Path: u.Path}.String())
			}
		}
	}
	switch r := p.Request; {
	case r.Kind == DropSnapshot && !r.ListOnly:
		say("the snapshot " + r.Snapshot + " of " + r.Machine)
	case r.Kind == GoBack && r.KeepPresent == "":
		say("the present state of " + r.Machine)
	}
	return gone
}
