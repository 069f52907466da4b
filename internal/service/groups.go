package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/core/catalog"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/store"
)

// Balance plans to drain a pool or to spread load between pools.
func (s *Service) Balance(ctx context.Context, r api.BalanceRequest) (plan.Balance, error) {
	to := r.Pools
	if r.Kind == api.Drain {
		if len(r.Pools) != 1 {
			return plan.Balance{}, fmt.Errorf("%w: one pool is drained at a time", ErrInvalid)
		}
		if r.To != nil {
			to = append(to, *r.To...)
		} else {
			all, err := s.store.Pools(ctx)
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
	if r.Kind == api.Drain {
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
func (s *Service) behind(ctx context.Context, pool string, b plan.Balance) (left []plan.Left, err error) {
	c, err := s.store.Catalog(ctx, pool)
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
	folder, err := s.folder(ctx, pool)
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
func (s *Service) load(ctx context.Context, name string, since time.Time) (state plan.PoolState, loads []plan.Load, err error) {
	pool, err := s.pool(ctx, name)
	if err != nil {
		return state, nil, err
	}
	space, err := s.space(pool)
	if err == nil && (space.ReadOnly || space.Free == storage.Unknown) {
		err = fmt.Errorf("%w: the pool %s is read-only, or does not tell how much room it has", ErrState, name)
	}
	if err != nil {
		return state, nil, err
	}
	k, err := s.knowledge(ctx, map[string]need{name: needAll}, since, true)
	if err == nil && len(k.Awaited) > 0 {
		err = fmt.Errorf("%w: what lies there is not all known yet (%s): ask again when it is", ErrState, strings.Join(k.Awaited, "; "))
	}
	if err != nil {
		return state, nil, err
	}
	c, err := s.store.Catalog(ctx, name)
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
	folder, err := s.folder(ctx, name)
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
		users, err := s.store.Users(ctx, name, paths)
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

// StartGroup starts several requests as one group. Those that a check blocks are listed.
func (s *Service) StartGroup(ctx context.Context, n api.NewGroup) (api.Group, error) {
	for _, r := range n.Requests {
		if err := r.Validate(); err != nil {
			return api.Group{}, err
		}
	}
	ctx = context.WithoutCancel(ctx) // a line that is cut leaves no half of a group
	id, err := s.store.AddGroup(ctx, storage.Printable(n.Name), time.Now())
	if err != nil {
		return api.Group{}, err
	}
	refused, since := []api.Refused{}, time.Now()
	for _, r := range n.Requests {
		if _, err := s.startIn(ctx, r, 0, "", id, since); err != nil {
			refused = append(refused, api.Refused{Source: r.Source, Why: err.Error()})
		}
	}
	b, err := json.Marshal(refused)
	if err == nil {
		err = s.store.SetRefused(ctx, id, string(b))
	}
	if err != nil {
		return api.Group{}, err
	}
	s.dispatch()
	return s.Group(ctx, strconv.FormatInt(id, 10))
}

// Groups returns the newest groups.
func (s *Service) Groups(ctx context.Context) ([]api.Group, error) {
	records, err := s.store.Groups(ctx, 100)
	out := []api.Group{}
	for _, g := range records {
		view, err := s.viewGroup(ctx, g)
		if err != nil {
			return nil, err
		}
		out = append(out, view)
	}
	return out, err
}

// Group returns one group.
func (s *Service) Group(ctx context.Context, id string) (api.Group, error) {
	number, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return api.Group{}, fmt.Errorf("group %q: %w", id, store.ErrNotFound)
	}
	g, err := s.store.Group(ctx, number)
	if err != nil {
		return api.Group{}, fmt.Errorf("group %s: %w", id, err)
	}
	return s.viewGroup(ctx, g)
}

func (s *Service) viewGroup(ctx context.Context, g store.Group) (v api.Group, err error) {
	v = api.Group{Id: strconv.FormatInt(g.ID, 10), Name: g.Name, Jobs: []api.Job{}, Refused: []api.Refused{}}
	if v.Created, err = time.Parse(time.RFC3339Nano, g.Created); err != nil {
		return v, err
	}
	if err := json.Unmarshal([]byte(g.Refused), &v.Refused); err != nil {
		return v, err
	}
	jobs, err := s.store.JobsOf(ctx, g.ID)
	for _, j := range jobs {
		v.Jobs = append(v.Jobs, s.summary(j))
	}
	return v, err
}

// ActOnGroup does something to all jobs of a group that have not ended.
func (s *Service) ActOnGroup(ctx context.Context, id, act string) (api.Group, error) {
	acts := map[string]func(context.Context, string) (api.Job, error){"pause": s.Pause, "resume": s.Resume, "cancel": s.Cancel}
	do, ok := acts[act]
	if !ok {
		return api.Group{}, fmt.Errorf("%w: a group is paused, resumed or cancelled", ErrInvalid)
	}
	g, err := s.Group(ctx, id)
	if err != nil {
		return g, err
	}
	for _, j := range g.Jobs {
		if store.State(j.State).Ended() {
			continue
		}
		if _, err := do(ctx, j.Id); err != nil && !errors.Is(err, ErrState) { // one that has changed meanwhile, or is so already
			return g, err
		}
	}
	return s.Group(ctx, id)
}
