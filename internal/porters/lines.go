package porters

import (
	"cmp"
	"maps"
	"slices"
	"time"
)

// Line is one between two porters: From is read from, and To writes.
type Line struct {
	From, To string
	Via      string    // a third porter that carries, empty for none
	Speed    float64   // that was measured, in bytes a second; 0 for none
	Measured time.Time // when
	Jobs     []Flow
}

// Flow is a job over a line, and how fast it goes now, in bytes a second.
type Flow struct {
	Job   int64
	Speed int64
}

// Lines are those that were measured, or that something goes over.
func (s *Porters) Lines() []Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	type ends struct{ from, to string }
	all := map[ends]*Line{}
	at := func(from, to string) *Line {
		if all[ends{from, to}] == nil {
			all[ends{from, to}] = &Line{From: from, To: to, Jobs: []Flow{}}
		}
		return all[ends{from, to}]
	}
	for p, known := range s.pairs {
		if known.err != nil {
			continue
		}
		if l := at(p.from.Porter, p.reader); known.at.After(l.Measured) {
			l.Via, l.Speed, l.Measured = known.peer.Via, known.peer.Speed, known.at
		}
	}
	for k, r := range s.errands {
		for from := range maps.Values(r.from) {
			now := Flow{Job: k.job}
			if f := r.flow.Load(); f != nil && f.from == from {
				now.Speed = f.speed
			}
			if l := at(from, k.porter); !slices.ContainsFunc(l.Jobs, func(f Flow) bool { return f.Job == k.job }) {
				l.Jobs = append(l.Jobs, now)
			}
		}
	}
	out := make([]Line, 0, len(all))
	for _, l := range all {
		slices.SortFunc(l.Jobs, func(a, b Flow) int { return cmp.Compare(a.Job, b.Job) })
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b Line) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	return out
}
