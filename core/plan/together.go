package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// lasting are the kinds of steps that are done for all disks one after the other, once what comes before is done for each of them, in their
// order: nothing gets its name before everything is proven, and no source goes before everything has its name.
var lasting = []string{StepPublish, StepRename, StepHandOver, StepRelease}

// Together makes one plan of plans of one disk each, whose disks are all carried or none. Their checks say which disk they are of.
func Together(r Request, parts ...Plan) Plan {
	p := Plan{Version: Version, Request: r, Checks: []Check{}, Steps: []Step{}, Together: true}
	last := make([][]Step, len(lasting))
	for i, part := range parts {
		id := "disk" + strconv.Itoa(i+1) // a disk that cannot be planned has a number too
		for _, d := range part.Bodies {
			d.ID, d.Doubted = id, part.Doubts
			p.Bodies = append(p.Bodies, d)
		}
		for _, s := range part.Steps {
			s.ID = id + strings.TrimPrefix(s.ID, FirstDisk)
			if at := slices.Index(lasting, s.Kind); at >= 0 {
				last[at] = append(last[at], s)
				continue
			}
			p.follow(s)
		}
		for _, c := range part.Checks {
			if len(parts) > 1 && len(part.Before) > 0 {
				c.Message = fmt.Sprintf("%s: %s", part.Before[0].Place, c.Message)
			}
			c.Remedies = nil // they change the request of one disk
			p.Checks = append(p.Checks, c)
		}
		if len(parts) == 1 {
			p.Fit = part.Fit
		}
		p.Adapt = append(p.Adapt, part.Adapt...)
		p.Before, p.After = append(p.Before, part.Before...), append(p.After, part.After...)
		p.Doubts = append(p.Doubts, part.Doubts...)
		p.BytesToRead, p.BytesToWrite = p.BytesToRead+part.BytesToRead, p.BytesToWrite+part.BytesToWrite
		p.EstimatedSeconds += part.EstimatedSeconds
		if p.KnownAt == nil || part.KnownAt != nil && part.KnownAt.Before(*p.KnownAt) {
			p.KnownAt = part.KnownAt
		}
	}
	if r.Kind == Undo { // the other way round
		slices.Reverse(last)
	}
	for _, steps := range last {
		for _, s := range steps {
			p.follow(s)
		}
	}
	return p
}

// follow adds a step behind those that there are.
func (p *Plan) follow(s Step) {
	s.After = nil
	if n := len(p.Steps); n > 0 {
		s.After = []string{p.Steps[n-1].ID}
	}
	p.Steps = append(p.Steps, s)
}
