package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/disk"
)

// PoolState is how full a pool is. Sizes are in bytes.
type PoolState struct {
	Pool        string `json:"pool"`
	Total       int64  `json:"total"`
	Free        int64  `json:"free"`
	LargestFile int64  `json:"-"` // 0 without a limit
	Rules       Rules  `json:"-"`
}

// used is the share of the pool that is taken.
func (p PoolState) used() float64 {
	if p.Total <= 0 {
		return 1
	}
	return 1 - float64(p.Free)/float64(p.Total)
}

// Load is a disk that may be moved, with all that it stands on. Sizes are in bytes.
type Load struct {
	Pool, Path     string
	Format, Layout string
	Virtual, Room  int64
	LargestFile    int64
	Stays          string // why it cannot be moved, empty when it can
}

// Carry is a disk that is to go from one pool to another.
type Carry struct {
	From string `json:"from"`
	Path string `json:"path"`
	To   string `json:"to"`
	Room int64  `json:"room"`
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

// Drain plans to empty a pool into others: the largest disks first, each to the pool that is least full and accepts it.
func Drain(from PoolState, to []PoolState, loads []Load) Balance {
	b := begin(append([]PoolState{from}, to...))
	for _, l := range largestFirst(loads) {
		best, why := b.place(l, func(p PoolState) bool { return p.Pool != from.Pool })
		b.carry(l, best, why)
	}
	return b
}

// Spread plans to make pools about equally full: disks go from the fullest to the one that is least full, as long as that helps.
func Spread(pools []PoolState, loads []Load) Balance {
	b := begin(pools)
	rest := largestFirst(loads)
	for range loads {
		fullest := slices.MaxFunc(b.After, func(x, y PoolState) int { return cmp.Compare(x.used(), y.used()) })
		i := slices.IndexFunc(rest, func(l Load) bool {
			if l.Pool != fullest.Pool || l.Stays != "" {
				return false
			}
			best, _ := b.place(l, func(p PoolState) bool { return p.Pool != fullest.Pool })
			if best == nil {
				return false
			}
			after := *best
			after.Free -= l.Room
			return after.used() < fullest.used()
		})
		if i < 0 {
			break
		}
		best, why := b.place(rest[i], func(p PoolState) bool { return p.Pool != fullest.Pool })
		b.carry(rest[i], best, why)
		rest = slices.Delete(rest, i, i+1)
	}
	return b
}

func begin(pools []PoolState) Balance {
	return Balance{Carries: []Carry{}, Left: []Left{}, Before: slices.Clone(pools), After: slices.Clone(pools)}
}

func largestFirst(loads []Load) []Load {
	out := slices.Clone(loads)
	slices.SortStableFunc(out, func(a, b Load) int { return cmp.Compare(b.Room, a.Room) })
	return out
}

// place finds the pool for a disk, or says why there is none.
func (b *Balance) place(l Load, among func(PoolState) bool) (best *PoolState, why string) {
	if l.Stays != "" {
		return nil, l.Stays
	}
	var reasons []string
	for i := range b.After {
		p := &b.After[i]
		if !among(*p) {
			continue
		}
		f, err := disk.Lookup(l.Format)
		var layout disk.Layout
		if err == nil {
			layout, _ = f.Layout(l.Layout) // one that is only read is accepted by its format
		}
		switch {
		case !p.Rules.Accept(l.Format, layout) || p.Rules.LargestDisk > 0 && l.Virtual > p.Rules.LargestDisk || p.Rules.Granularity > 0 && l.Virtual%p.Rules.Granularity != 0 || !p.Rules.Fits(l.Path, extension(f)):
			reasons = append(reasons, fmt.Sprintf("%s does not accept it by its rules", p.Pool))
		case p.LargestFile > 0 && l.LargestFile > p.LargestFile:
			reasons = append(reasons, fmt.Sprintf("%s holds no files that long", p.Pool))
		case p.Free-l.Room < int64(spare*float64(p.Total)):
			reasons = append(reasons, fmt.Sprintf("%s has no room for it", p.Pool))
		case best == nil || p.used() < best.used():
			best = p
		}
	}
	if best == nil && len(reasons) == 0 {
		reasons = append(reasons, "there is no other pool")
	}
	return best, strings.Join(reasons, "; ")
}

func extension(f disk.Format) string {
	if len(f.Extensions) == 0 {
		return ""
	}
	return f.Extensions[0]
}

// carry notes where a disk goes, or why it stays.
func (b *Balance) carry(l Load, to *PoolState, why string) {
	if to == nil {
		b.Left = append(b.Left, Left{l.Pool, l.Path, why})
		return
	}
	b.Carries = append(b.Carries, Carry{From: l.Pool, Path: l.Path, To: to.Pool, Room: l.Room})
	to.Free -= l.Room
	for i := range b.After {
		if b.After[i].Pool == l.Pool {
			b.After[i].Free += l.Room
		}
	}
}
