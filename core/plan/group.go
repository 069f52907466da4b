package plan

import (
	"fmt"
	"slices"
)

// Group is what several requests would do: all of them, or none.
type Group struct {
	Name     string    `json:"name"`
	Requests []Request `json:"requests,omitempty"`
	// Balance, unless it is nil, asks for the requests that balance pools, and Balanced is what came of that.
	Balance  *BalanceRequest `json:"balance,omitempty"`
	Balanced *Balance        `json:"balanced,omitempty"`
	// Parts are what each of the requests would do, in their order, and Ready tells that all of them are there.
	Parts []Part `json:"parts"`
	Ready bool   `json:"ready"`
	// Problem is why it could not be planned.
	Problem string `json:"problem,omitempty"`
}

// Part is what one request of a group would do.
type Part struct {
	Request          Request `json:"request"`
	Checks           []Check `json:"checks"` // that block or warn
	BytesToRead      int64   `json:"bytes_to_read"`
	BytesToWrite     int64   `json:"bytes_to_write"`
	EstimatedSeconds float64 `json:"estimated_seconds"`
}

// Used are the files that the requests of a group use, as pool:path, and whether one writes them.
type Used map[string]bool

// PartOf is the part of a plan in a group, of which others use files already.
func PartOf(p Plan, used Used) Part {
	part := Part{
		Request: p.Request, Checks: []Check{}, BytesToRead: p.BytesToRead, BytesToWrite: p.BytesToWrite, EstimatedSeconds: p.EstimatedSeconds,
	}
	for _, u := range p.Uses() {
		name := u.Pool + ":" + u.Path
		if writes, ok := used[name]; ok && (writes || u.Writes) && len(part.Checks) == 0 {
			part.Checks = append(part.Checks, Check{
				"group",
				Blocks,
				fmt.Sprintf(
					"%s is used by another request of the group too, and one of them writes it or takes it away: start them one after the other.",
					name,
				),
				nil,
			})
		}
		used[name] = used[name] || u.Writes
	}
	for _, c := range p.Checks {
		if c.Severity != Informs {
			part.Checks = append(part.Checks, c)
		}
	}
	return part
}

// Stopped are the parts that a check blocks.
func (g Group) Stopped() []Part {
	return slices.DeleteFunc(slices.Clone(g.Parts), func(p Part) bool {
		return !slices.ContainsFunc(p.Checks, func(c Check) bool { return c.Severity == Blocks })
	})
}

// Blocked tells whether it cannot be started as it is.
func (g Group) Blocked() bool { return g.Problem != "" || len(g.Stopped()) > 0 }
