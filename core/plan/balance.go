package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bagaglio/core/disk"
)

// PoolState is how full a pool is. Sizes are in bytes.
type PoolState struct {
	Pool        string `json:"pool"`
	Host        string `json:"-"`
	Total       int64  `json:"total"`
	Free        int64  `json:"free"`
	Held        int64  `json:"held"` // what is kept for a while, and free after that
	Storage     string `json:"-"`    // the same for two pools on one filesystem
	Holes       bool   `json:"-"`    // it keeps holes in files
	LargestFile int64  `json:"-"`    // 0 without a limit
	Rules       Rules  `json:"-"`
	// Names are the files that lie there.
	Names map[string]bool `json:"-"`
}

// used is the share of the pool that is taken, once what is held is not any more.
func (p PoolState) used() float64 {
	if p.Total <= 0 {
		return 1
	}
	return 1 - float64(p.Free+p.Held)/float64(p.Total)
}

// takes is how much of a pool's room a disk takes there: nothing where it only gets another name.
func (p PoolState) takes(l Load) int64 {
	switch {
	case p.Storage != "" && p.Storage == l.Storage:
		return 0
	case p.Holes:
		return l.Room
	}
	return max(l.Room, l.Size)
}

// Load is a disk that may be moved, with all that it stands on. Sizes are in bytes.
type Load struct {
	Pool, Path     string
	Family         bool   // with all that stands on it
	Machine        string // that uses it, empty when none is known
	Format, Layout string
	Virtual, Room  int64
	Size           int64  // lengths of its files
	Storage        string // that its pool lies on
	LargestFile    int64
	Files          []string // of all that goes
	Stays          string   // why it cannot be moved, empty when it can
}

// Carry is a disk that is to go from one pool to another.
type Carry struct {
	From string `json:"from"`
	Path string `json:"path"`
	To   string `json:"to"`
	Room int64  `json:"room"`
	// Machine is one that uses it. Its definition follows, unless the disk goes away to another host.
	Machine string `json:"machine,omitempty"`
	Away    bool   `json:"away,omitempty"`
	// Request is the one that does it.
	Request Request `json:"request"`
}

// Left is a disk that stays where it is.
type Left struct {
	Pool string `json:"pool"`
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Balance is what a plan over many disks would do.
type Balance struct {
	Carries []Carry     `json:"carries"`
	Left    []Left      `json:"left"`
	Before  []PoolState `json:"before"`
	After   []PoolState `json:"after"`
}

// spare is the part of a pool that is kept free.
const spare = 0.05

// Kinds of balances.
const (
	KindDrain  = "drain"  // empty a pool
	KindSpread = "spread" // have pools be equally full
)

// BalanceRequest asks for a balance.
type BalanceRequest struct {
	Kind  string   `json:"kind"`
	Pools []string `json:"pools"`        // the one to drain, or those to spread load between
	To    []string `json:"to,omitempty"` // pools to drain into; nil for all others that can be written to
}

// Validate returns an error that wraps ErrRequest when it makes no sense.
func (r BalanceRequest) Validate() error {
	switch {
	case r.Kind != KindDrain && r.Kind != KindSpread:
		return fmt.Errorf("%w: the kind of a balance is %s or %s", ErrRequest, KindDrain, KindSpread)
	case r.Kind == KindDrain && len(r.Pools) != 1:
		return fmt.Errorf("%w: one pool is drained at a time", ErrRequest)
	case r.Kind == KindSpread && len(r.Pools) < 2:
		return fmt.Errorf("%w: load is spread between two pools at least", ErrRequest)
	}
	return nil
}

// Drain plans to empty a pool into others: the largest first, each to the pool that is least full and accepts it. The disks of a machine
// stay together, where one pool takes them all.
func Drain(from PoolState, to []PoolState, loads []Load) Balance {
	b := begin(append([]PoolState{from}, to...))
	elsewhere := func(p PoolState) bool { return p.Pool != from.Pool }
	for _, u := range units(loads) {
		if best, _ := b.place(u, elsewhere); best != nil {
			b.carry(u, best, true)
			continue
		}
		for _, l := range u {
			best, why := b.place(unit{l}, elsewhere)
			if best == nil {
				b.Left = append(b.Left, Left{l.Pool, l.Path, why})
				continue
			}
			b.carry(unit{l}, best, false) // then the definition has no one place to go to
		}
	}
	return b
}

// Spread plans to make pools about equally full: what goes, goes from the fullest to the one that is least full, as long as that helps. The
// disks of a machine stay together.
func Spread(pools []PoolState, loads []Load) Balance {
	b := begin(pools)
	rest := units(loads)
	for range loads {
		fullest := slices.MaxFunc(b.After, func(x, y PoolState) int { return cmp.Compare(x.used(), y.used()) })
		elsewhere := func(p PoolState) bool {
			return p.Pool != fullest.Pool && (p.Storage == "" || p.Storage != fullest.Storage)
		}
		i := slices.IndexFunc(rest, func(u unit) bool {
			if u[0].Pool != fullest.Pool {
				return false
			}
			best, _ := b.place(u, elsewhere)
			if best == nil {
				return false
			}
			after := *best
			after.Free -= best.takesAll(u)
			return after.used() < fullest.used()
		})
		if i < 0 {
			break
		}
		best, _ := b.place(rest[i], elsewhere) // it was found above
		b.carry(rest[i], best, false)
		rest = slices.Delete(rest, i, i+1)
	}
	for _, l := range slices.Concat(rest...) {
		if l.Stays != "" {
			b.Left = append(b.Left, Left{l.Pool, l.Path, l.Stays})
		}
	}
	return b
}

// unit is what goes together: the disks of a machine, or one disk.
type unit []Load

func (u unit) room() (n int64) {
	for _, l := range u {
		n += l.Room
	}
	return n
}

// takesAll is how much of a pool's room all of it takes.
func (p PoolState) takesAll(u unit) (n int64) {
	for _, l := range u {
		n += p.takes(l)
	}
	return n
}

// units are the loads, those of a machine in one pool together; the largest first.
func units(loads []Load) (out []unit) {
	for _, l := range loads {
		i := slices.IndexFunc(out, func(u unit) bool { return l.Machine != "" && u[0].Machine == l.Machine && u[0].Pool == l.Pool })
		if i < 0 {
			out = append(out, unit{l})
			continue
		}
		out[i] = append(out[i], l)
	}
	slices.SortStableFunc(out, func(a, b unit) int { return cmp.Compare(b.room(), a.room()) })
	return out
}

func begin(pools []PoolState) Balance {
	return Balance{Carries: []Carry{}, Left: []Left{}, Before: slices.Clone(pools), After: slices.Clone(pools)}
}

// place finds the pool for what goes together, or says why there is none.
func (b *Balance) place(u unit, among func(PoolState) bool) (best *PoolState, why string) {
	var reasons []string
	for _, l := range u {
		if l.Stays != "" {
			return nil, l.Stays
		}
	}
	for i := range b.After {
		p := &b.After[i]
		if !among(*p) {
			continue
		}
		refused := ""
		for _, l := range u {
			refused = cmp.Or(refused, p.refuses(l))
		}
		if need := p.takesAll(u); refused == "" && need > 0 && p.Free-need < int64(spare*float64(p.Total)) {
			refused = "has no room for it"
		}
		switch {
		case refused != "":
			reasons = append(reasons, p.Pool+" "+refused)
		case best == nil || p.used() < best.used():
			best = p
		}
	}
	if best == nil && len(reasons) == 0 {
		reasons = append(reasons, "there is no other pool")
	}
	return best, strings.Join(reasons, "; ")
}

// refuses says why a pool does not take a disk, whatever room it has; empty when it does.
func (p PoolState) refuses(l Load) string {
	f, err := disk.Lookup(l.Format)
	var layout disk.Layout
	ext := ""
	if err == nil {
		layout, _ = f.Layout(l.Layout) // one that is only read is accepted by its format
		ext = f.Extensions[0]
	}
	r := p.Rules
	switch {
	case !r.Accept(l.Format, layout),
		r.LargestDisk > 0 && l.Virtual > r.LargestDisk,
		r.Granularity > 0 && l.Virtual%r.Granularity != 0,
		!r.Fits(l.Path, ext),
		r.MachineFolders && !strings.Contains(l.Path, "/"):
		return "does not accept it by its rules"
	case r.NoRunning && l.Machine != "":
		return fmt.Sprintf("is not for machines that run, and %s uses it", l.Machine)
	case slices.ContainsFunc(l.Files, func(name string) bool { return p.Names[name] }):
		return "has another file of that name"
	case p.LargestFile > 0 && l.LargestFile > p.LargestFile:
		return "holds no files that long"
	}
	return ""
}

// take notes that files will lie there.
func (p *PoolState) take(files []string) {
	names := maps.Clone(p.Names) // that of before stays as it is
	if names == nil {
		names = map[string]bool{}
	}
	for _, name := range files {
		names[name] = true
	}
	p.Names = names
}

// carry notes where something goes, and whether the definitions of its machine go too.
func (b *Balance) carry(u unit, to *PoolState, whole bool) {
	for _, l := range u {
		from := slices.IndexFunc(b.Before, func(p PoolState) bool { return p.Pool == l.Pool })
		b.Carries = append(
			b.Carries,
			Carry{From: l.Pool, Path: l.Path, To: to.Pool, Room: l.Room, Machine: l.Machine, Away: b.Before[from].Host != to.Host, Request: Request{
				Kind:            Copy,
				Release:         true,
				Family:          l.Family,
				Source:          Place{Pool: l.Pool, Path: l.Path},
				Destination:     &Place{Pool: to.Pool, Path: l.Path},
				TakeDefinitions: whole && l.Machine != "",
			}},
		)
		to.take(l.Files)
		need := to.takes(l)
		for i := range b.After { // pools on one filesystem share its room
			p := &b.After[i]
			if p.Pool == to.Pool || to.Storage != "" && p.Storage == to.Storage {
				p.Free -= need
			}
			if need > 0 && (p.Pool == l.Pool || l.Storage != "" && p.Storage == l.Storage) {
				p.Held += l.Room
			}
		}
	}
}
