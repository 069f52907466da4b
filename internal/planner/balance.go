package planner

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/catalog"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
)

// balance plans to drain a pool or to spread load between pools.
func (s *Planner) balance(ctx context.Context, r plan.BalanceRequest) (plan.Balance, error) {
	to := r.Pools
	if r.Kind == plan.KindDrain {
		if r.To != nil {
			to = append(to, r.To...)
		} else {
			all, err := s.records.Pools(ctx)
			if err != nil {
				return plan.Balance{}, err
			}
			for _, p := range all { // a drive that may be unplugged is only taken when it is named
				if p.Facts == nil || !p.Facts.Removable {
					to = append(to, p.Name)
				}
			}
		}
	}
	var states []plan.PoolState
	var loads []plan.Load
	since := time.Now()
	for i, name := range to {
		if slices.Contains(to[:i], name) {
			continue
		}
		state, found, err := s.load(ctx, name, since)
		if err != nil && (r.To != nil || slices.Contains(r.Pools, name)) {
			return plan.Balance{}, err
		}
		if err != nil {
			continue // one that is not reachable, or read-only, takes nothing
		}
		states = append(states, state)
		if slices.Contains(r.Pools, name) {
			loads = append(loads, found...)
		}
	}
	if r.Kind == plan.KindDrain {
		b := plan.Drain(states[0], states[1:], loads)
		behind, err := s.behind(ctx, states[0].Pool, b)
		b.Left = append(b.Left, behind...)
		return b, err
	}
	return plan.Spread(states, loads), nil
}

// mostBehind bounds how many files that are no disks are named one by one.
const mostBehind = 20

// behind is what a pool still has in it when all of its disks are gone.
func (s *Planner) behind(ctx context.Context, pool string, b plan.Balance) (left []plan.Left, err error) {
	c, err := s.records.Catalog(ctx, pool)
	if err != nil {
		return nil, err
	}
	for _, f := range c.Strays[:min(len(c.Strays), mostBehind)] {
		left = append(left, plan.Left{Pool: pool, Path: f.Name, Why: "it is no disk, and belongs to none"})
	}
	if more := len(c.Strays) - mostBehind; more > 0 {
		left = append(
			left,
			plan.Left{Pool: pool, Path: fmt.Sprintf("and %d more", more), Why: "they are no disks: see bagaglio pool orphans " + pool},
		)
	}
	for _, m := range c.Machines {
		if slices.ContainsFunc(b.Carries, func(x plan.Carry) bool { return x.Machine == m.Name && x.Request.TakeDefinitions && !x.Away }) {
			continue // it goes along
		}
		left = append(
			left,
			plan.Left{Pool: pool, Path: m.File.Name, Why: fmt.Sprintf("the definition of %s stays: take the machine to where its disks go", m.Name)},
		)
	}
	folder, err := s.places.Folder(ctx, pool)
	if err != nil {
		return left, err
	}
	held, err := disks.ListHeld(folder)
	for _, h := range held {
		left = append(
			left,
			plan.Left{
				Pool: pool,
				Path: h.Path,
				Why:  fmt.Sprintf("it is held until %s: bagaglio held clear %s %s", h.Until.Local().Format("2006-01-02 15:04"), pool, h.ID),
			},
		)
	}
	return left, err
}

// load says how full a pool is, and what is in it that may be moved.
func (s *Planner) load(ctx context.Context, name string, since time.Time) (state plan.PoolState, loads []plan.Load, err error) {
	pool, err := s.places.Record(ctx, name)
	if err != nil {
		return state, nil, err
	}
	space, err := s.places.Space(pool)
	if err == nil && (space.ReadOnly || space.Free == storage.Unknown) {
		err = fmt.Errorf("%w: the pool %s is read-only, or does not tell how much room it has", records.ErrState, name)
	}
	if err != nil {
		return state, nil, err
	}
	k, err := s.places.Knowledge(ctx, map[string]places.Need{name: places.NeedAll}, since, true)
	if err == nil && len(k.Awaited) > 0 {
		err = fmt.Errorf("%w: what lies there is not all known yet (%s): ask again when it is", records.ErrState, strings.Join(k.Awaited, "; "))
	}
	if err != nil {
		return state, nil, err
	}
	c, err := s.records.Catalog(ctx, name)
	if err != nil {
		return state, nil, err
	}
	state = plan.PoolState{
		Pool:        name,
		Host:        pool.Host,
		Total:       space.Total,
		Free:        space.Free,
		Storage:     space.ID,
		Holes:       space.Holes,
		LargestFile: space.LargestFile,
		Rules:       pool.Rules,
	}
	if pool.Facts != nil {
		state.Holes = pool.Facts.Holes
	}
	folder, err := s.places.Folder(ctx, name)
	if err != nil {
		return state, nil, err
	}
	held, err := disks.ListHeld(folder)
	if err != nil {
		return state, nil, err
	}
	for _, h := range held {
		state.Held += h.Room
	}
	state.Names = map[string]bool{}
	for _, f := range c.Strays {
		state.Names[f.Name] = true
	}
	for _, d := range c.Disks {
		for _, f := range d.Files {
			state.Names[f.Name] = true
		}
	}
	for _, family := range families(c.Disks) {
		l := loadOf(name, family)
		l.Storage = space.ID
		var paths []string
		for _, d := range family {
			paths = append(paths, d.Path)
		}
		users, err := s.records.Users(ctx, name, paths)
		if err != nil {
			return state, nil, err
		}
		if len(users) > 0 {
			l.Machine = users[0].Name
		}
		loads = append(loads, l)
	}
	return state, loads, nil
}

// families are the disks, those together that stand on the same one in the end.
func families(disks []catalog.Disk) (out [][]catalog.Disk) {
	by := map[string]string{} // disks by their files
	for _, d := range disks {
		for _, f := range d.Files {
			by[f.Name] = d.Path
		}
	}
	place := map[string]int{} // of a family, by what all of it stands on
	for _, d := range disks {
		root := d.Path
		if n := len(d.Chain); n > 0 && by[d.Chain[n-1]] != "" {
			root = by[d.Chain[n-1]]
		}
		i, ok := place[root]
		if !ok {
			i = len(out)
			place[root], out = i, append(out, nil)
		}
		out[i] = append(out[i], d)
	}
	return out
}

// loadOf is a family as one load: that of the only disk which nothing stands on, with its chain, or of what all stand on, with all of them.
func loadOf(pool string, family []catalog.Disk) plan.Load {
	carried := map[string]bool{} // files that something stands on
	for _, d := range family {
		for _, f := range d.Chain {
			carried[f] = true
		}
	}
	var tops, roots []catalog.Disk
	l := plan.Load{Pool: pool}
	for _, d := range family {
		if !carried[d.Path] {
			tops = append(tops, d)
		}
		if len(d.Chain) == 0 {
			roots = append(roots, d)
		}
		if d.Problem != "" {
			l.Stays = fmt.Sprintf("%s does not open: %s", d.Path, d.Problem)
		}
		l.Room, l.Size = l.Room+d.Room, l.Size+d.FileSize
		for _, f := range d.Files {
			l.Files = append(l.Files, f.Name)
			l.LargestFile = max(l.LargestFile, f.Size)
		}
	}
	d := append(tops, family...)[0]
	if len(tops) > 1 && len(roots) > 0 {
		d, l.Family = roots[0], true
	}
	l.Path, l.Format, l.Layout, l.Virtual = d.Path, d.Format, d.Layout, d.VirtualSize
	return l
}
