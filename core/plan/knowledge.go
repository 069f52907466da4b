package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Knowledge is how well it is known what lies around a source and a destination: what stands on a disk, and which machines use it.
type Knowledge struct {
	// At is as of when it is known; the zero time when that says nothing.
	At time.Time
	// Awaited are pools that are still being looked through, and Missed what could not be looked at there, in words.
	Awaited, Missed []string
}

// Add adds what is known of another pool.
func (k *Knowledge) Add(o Knowledge) {
	if k.At.IsZero() || !o.At.IsZero() && o.At.Before(k.At) {
		k.At = o.At
	}
	k.Awaited, k.Missed = append(k.Awaited, o.Awaited...), append(k.Missed, o.Missed...)
	slices.Sort(k.Awaited)
	slices.Sort(k.Missed)
}

// checkKnowledge: what would be done harm if something were not known.
func (p *maker) checkKnowledge() {
	k := p.facts.Knowledge
	if !k.At.IsZero() {
		p.KnownAt = &k.At
	}
	p.Checks = append(p.Checks, k.Checks(p.Disk.Request)...)
}

// Awaited is the name of the check for what is not known yet.
const Awaited = "awaited"

// Checks are those that what is not known makes.
func (k Knowledge) Checks(r Request) (checks []Check) {
	severity, way := Blocks, remedy("Go on without knowing", map[string]any{"without_knowing": true})
	if r.WithoutKnowing {
		severity, way = Warns, remedy("Wait until it is known", map[string]any{"without_knowing": nil})
	}
	const harm = "a disk that stands on this one, or a machine that uses it, may be there and would be done harm"
	if len(k.Awaited) > 0 {
		checks = append(
			checks,
			Check{
				Awaited,
				severity,
				fmt.Sprintf("%s: %s. Plan again when it is known.", capital(strings.Join(k.Awaited, "; ")), harm),
				[]Remedy{way},
			},
		)
	}
	if len(k.Missed) > 0 {
		checks = append(
			checks,
			Check{
				"not-known",
				severity,
				fmt.Sprintf("Not everything could be looked at: %s. If it belongs here, %s.", some(k.Missed), harm),
				[]Remedy{way},
			},
		)
	}
	return checks
}
