package machines

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/catalog"
	"bagaglio/core/plan"
	"bagaglio/internal/store"
)

// Kin is a disk of a family: those that stand on one another.
type Kin struct {
	catalog.Disk
	Pool     string   // that it lies in, where it is another one of the host
	Base     string   // the one that it stands on, by its path; empty for what stands on nothing, or on what is not there
	Machines []string // of hosts, as HOST:NAME, and of definitions in pools, that name it
}

// Family returns a disk of a pool with all that it stands on, and all that stands on any of those, as on record: bases before what stands on them. Hosts
// that cannot be asked are told: what their machines name is not known.
func (m *Machines) Family(ctx context.Context, at plan.Place) (family []Kin, away []Away, err error) {
	asked, err := m.known(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	below := append(slices.Clone(asked.Chain), asked.Names()...)
	above, err := m.records.Standing(ctx, at.Pool, below)
	if err != nil {
		return nil, nil, err
	}
	found, err := m.records.DisksAt(ctx, at.Pool, slices.Concat(below, above))
	if err != nil {
		return nil, nil, err
	}
	owner, disks := map[string]string{}, []catalog.Disk{}
	for _, d := range found {
		for _, f := range d.Names() {
			owner[f] = d.Path
		}
		disks = append(disks, d)
	}
	if err := m.places.CallDisks(ctx, at.Pool, disks); err != nil {
		return nil, nil, err
	}
	for _, d := range disks {
		family = append(family, Kin{Disk: d})
	}
	slices.SortFunc(family, func(a, b Kin) int {
		return cmp.Or(cmp.Compare(len(a.Chain), len(b.Chain)), strings.Compare(a.Path, b.Path))
	})
	for i, k := range family {
		if len(k.Chain) > 0 {
			family[i].Base = owner[k.Chain[0]]
		}
	}
	by, err := m.records.StandingOn(ctx, at.Pool, below)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range below {
		for _, name := range by[file] {
			if in, there, ok := strings.Cut(name, ":"); ok && owner[name] == "" {
				other, err := m.records.DisksAt(ctx, in, []string{there})
				if err != nil {
					return nil, nil, err
				}
				d := other[there]
				d.Path = there
				family = append(family, Kin{Disk: d, Pool: in, Base: owner[file]})
			}
		}
	}
	away, err = m.users(ctx, at.Pool, family)
	return family, away, err
}

// known is what is on record of a disk. The pool is looked through for one that is not.
func (m *Machines) known(ctx context.Context, at plan.Place) (catalog.Disk, error) {
	for _, again := range []bool{false, true} {
		if again {
			if err := m.places.Refresh(ctx, at.Pool); err != nil {
				return catalog.Disk{}, err
			}
		}
		found, err := m.records.DisksAt(ctx, at.Pool, []string{at.Path})
		if d, ok := found[at.Path]; ok || err != nil {
			return d, err
		}
	}
	return catalog.Disk{}, fmt.Errorf("disk %s: %w", at, store.ErrNotFound)
}

// users adds the machines that name the disks of a family.
func (m *Machines) users(ctx context.Context, pool string, family []Kin) ([]Away, error) {
	var files []string
	for _, k := range family {
		files = append(files, k.Names()...)
	}
	defined, err := m.records.UserNames(ctx, pool, files)
	if err != nil {
		return nil, err
	}
	all, away, err := m.List(ctx, "")
	for i, k := range family {
		var names []string
		for _, f := range k.Names() {
			names = append(names, defined[f]...)
		}
		for _, x := range all {
			if slices.ContainsFunc(x.Disks, func(d Disk) bool { return d.InPool == pool && slices.Contains(k.Names(), d.Path) }) {
				names = append(names, called(x))
			}
		}
		slices.Sort(names)
		family[i].Machines = slices.Compact(names)
	}
	return away, err
}
