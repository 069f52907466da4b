package plan

import (
	"fmt"
	"maps"
	"slices"

	"bagaglio/core/storage"
)

// Group is what several requests would do: all of them, or none.
type Group struct {
	Name     string    `json:"name"`
	Requests []Request `json:"requests,omitempty"`
	// AtOnce is how many of its jobs run at once, and StopAfter how many may fail before the others wait; 0 for as many as there are. Hours are those in which
	// they run, as of a job.
	AtOnce    int    `json:"at_once,omitempty"`
	StopAfter int    `json:"stop_after,omitempty"`
	Hours     string `json:"hours,omitempty"`
	// Balance, unless it is nil, asks for the requests that balance pools, and Balanced is what came of that.
	Balance  *BalanceRequest `json:"balance,omitempty"`
	Balanced *Balance        `json:"balanced,omitempty"`
	// Parts are what each of the requests would do, in their order, and Ready tells that all of them are there.
	Parts []Part `json:"parts"`
	Ready bool   `json:"ready"`
	// Rooms are the pools that something goes into, by their names.
	Rooms []Room `json:"rooms,omitempty"`
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
	// Needs is the room in bytes that it takes at least, by pools.
	Needs map[string]int64 `json:"needs,omitempty"`
}

// Room is what goes into a pool, and what is free there, in bytes, or storage.Unknown.
type Room struct {
	Pool    string  `json:"pool"`
	Needs   int64   `json:"needs"`
	Free    int64   `json:"free"`
	Seconds float64 `json:"seconds"` // of the requests that go there
}

// Survey puts together what goes into each pool. Where that is more than is free, the requests from then on are stopped.
func (g *Group) Survey(free map[string]int64) {
	rooms := map[string]*Room{}
	for i := range g.Parts {
		part := &g.Parts[i]
		for _, pool := range slices.Sorted(maps.Keys(part.Needs)) {
			r := rooms[pool]
			if r == nil {
				r = &Room{Pool: pool, Free: storage.Unknown}
				if n, ok := free[pool]; ok {
					r.Free = n
				}
				rooms[pool] = r
			}
			r.Needs, r.Seconds = r.Needs+part.Needs[pool], r.Seconds+part.EstimatedSeconds
			if r.Free != storage.Unknown && r.Needs > r.Free && len(part.Needs) > 0 {
				part.Checks = append(part.Checks, Check{
					"room",
					Blocks,
					fmt.Sprintf(
						"Up to here the group needs %s in the pool %s, and %s are free: take less at a time, or another pool.",
						Bytes(r.Needs),
						pool,
						Bytes(r.Free),
					),
					nil,
				})
			}
		}
	}
	g.Rooms = nil
	for _, pool := range slices.Sorted(maps.Keys(rooms)) {
		g.Rooms = append(g.Rooms, *rooms[pool])
	}
}

// Used are the files that the requests of a group use, as pool:path, and whether one writes them.
type Used map[string]bool

// PartOf is the part of a plan in a group, of which others use files already.
func PartOf(p Plan, used Used) Part {
	part := Part{
		Request: p.Request, Checks: []Check{}, BytesToRead: p.BytesToRead, BytesToWrite: p.BytesToWrite, EstimatedSeconds: p.EstimatedSeconds,
	}
	for i, side := range p.After {
		if i < len(p.Bodies) && !p.Bodies[i].Renames {
			if part.Needs == nil {
				part.Needs = map[string]int64{}
			}
			part.Needs[side.Place.Pool] += side.AllocatedSize
		}
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
