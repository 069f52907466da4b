package planner

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
	"bagaglio/internal/places"
	"bagaglio/internal/store"
)

// Porters tells which porters can be given work now.
type Porters interface {
	// CanWork returns how many jobs a porter does now, and fails for one that can be given no work.
	CanWork(ctx context.Context, name string) (jobs int, err error)
	// FromPeer says where one reads from another one, and how fast that is, or why it cannot.
	FromPeer(ctx context.Context, reader, from string) (errand.Peer, error)
}

// UsePorters has porters do what they can do near their storage.
func (s *Planner) UsePorters(p Porters) { s.porters = p }

// Doer is who can do the work of a plan.
type Doer struct {
	Porter string                 // empty for the service
	From   []errand.Peer          // the porters that it reads from, none where nothing is far away
	Ends   map[string]errand.Ends // by subjects: folders on its computer
	Pools  map[string]errand.Lies // likewise of disks that move while their machine runs, by their pools
	line   float64                // seconds that what is carried takes on the lines, about
	jobs   int                    // that it does now
}

// better is the order of doers: who is done with the line first, then who has less to do.
func better(a, b Doer) int {
	return cmp.Or(cmp.Compare(a.line, b.line), cmp.Compare(a.jobs, b.jobs), strings.Compare(a.Porter, b.Porter))
}

// errNobody is the error where no porter can do the work of a plan.
var errNobody = errors.New("no porter can do it")

// assign says who does the work, and why, where porters could.
func (s *Planner) assign(ctx context.Context, p *plan.Plan) error {
	tell := func(severity plan.Severity, remedies []plan.Remedy, format string, args ...any) {
		p.Checks = append(p.Checks, plan.Check{Name: "porter", Severity: severity, Message: fmt.Sprintf(format, args...), Remedies: remedies})
	}
	by := p.Request.By
	p.Checks = slices.DeleteFunc(
		p.Checks,
		func(c plan.Check) bool { return c.Name == "porter" },
	) // of the disks of a machine, which were planned one by one
	near, doers, why, err := s.doers(ctx, *p)
	if err != nil || near == "" && by == "" {
		return err
	}
	anybody := []plan.Remedy{{Label: "Let whoever can do it", Change: []byte(`{"by":null}`)}}
	if by != "" && by != plan.ByService {
		doers = slices.DeleteFunc(doers, func(d Doer) bool { return d.Porter != by })
		if len(doers) == 0 {
			tell(plan.Blocks, anybody, "The porter %s is to do it, and cannot: %v.", by, cmp.Or(why, errNobody))
			return nil
		}
	}
	switch {
	case by == plan.ByService:
		tell(plan.Informs, nil, "The service does it, as was asked for: what lies on other computers goes over the lines to them.")
	case len(doers) == 0:
		tell(plan.Informs, nil, "The service does it: %v. What is copied goes over the line to it and back.", why)
	default:
		p.Porter = doers[0].Porter
		tell(plan.Informs, nil, "The porter %s does it%s", p.Porter, reasonFor(doers, by))
	}
	return nil
}

// reasonFor says why the first of some does it.
func reasonFor(doers []Doer, by string) string {
	var text strings.Builder
	first := doers[0]
	if len(first.From) == 0 {
		text.WriteString(": all of it lies on its computer, and nothing that is copied goes over the line.")
	}
	for i, peer := range first.From {
		how := "goes straight between them, over that line once"
		if peer.Via != "" {
			how = fmt.Sprintf("goes through the porter %s, since they do not reach each other, encrypted between them", peer.Via)
		}
		begins := ", and"
		if i > 0 {
			begins = " It"
		}
		fmt.Fprintf(&text, "%s reads from the porter %s: what is copied %s.", begins, peer.Porter, how)
	}
	switch {
	case by != "":
		text.WriteString(" So it was asked for.")
	case len(doers) > 1 && doers[1].line > first.line:
		fmt.Fprintf(&text, " For %s more would go over a line, or over a slower one.", doers[1].Porter)
	case len(doers) > 1 && doers[1].jobs > first.jobs:
		fmt.Fprintf(&text, " %s could, too, and has more to do: %d jobs, and %d.", doers[1].Porter, doers[1].jobs, first.jobs)
	case len(doers) > 1:
		fmt.Fprintf(&text, " %s could, too.", doers[1].Porter)
	}
	return text.String()
}

// guessed is the speed of a line that was not measured, in bytes a second.
const guessed = 100e6

// doers are the porters that can do the work of a plan now, the best first, or why there are none. near is a porter that has to do with it, empty where none has.
func (s *Planner) doers(ctx context.Context, p plan.Plan) (near string, all []Doer, why, err error) {
	pools, err := s.poolsOf(ctx, p)
	if err != nil || s.porters == nil {
		return "", nil, nil, err
	}
	there, err := s.folders(ctx, pools)
	if err != nil || len(there) == 0 {
		return "", nil, nil, err
	}
	names := slices.Sorted(maps.Keys(there))
	near = names[0]
	if text := remains(p, pools); text != "" {
		return near, nil, errors.New(text), nil
	}
	for _, name := range names {
		d := doing{planner: s, there: there, Doer: Doer{Porter: name, Ends: map[string]errand.Ends{}, Pools: map[string]errand.Lies{}}}
		if err := d.fit(ctx, p); err != nil {
			if why == nil || errors.Is(why, errApart) {
				why = err
			}
			continue
		}
		all = append(all, d.Doer)
	}
	slices.SortFunc(all, better)
	return near, all, why, nil
}

// errApart is why no porter can do it where none has all that is written.
var errApart = errors.New("no computer with a porter has all the places that are written to")

// doing is somebody who may be able to do the work of a plan.
type doing struct {
	Doer
	planner *Planner
	there   map[string]map[string]string // folders, by porters and then by pools
}

// fit finds where all lies for it, and fails where that cannot be.
func (d *doing) fit(ctx context.Context, p plan.Plan) (err error) {
	reads := p.Machine != nil || p.Request.Kind == plan.Convert || p.Request.Kind == plan.Copy
	if p.Machine != nil {
		for _, l := range p.Machine.Live {
			if err := d.pool(ctx, l.Now.Pool, 0, false); err != nil {
				return err
			}
			if err := d.pool(ctx, l.Was.Pool, 0, p.Machine.Away()); err != nil {
				return err
			}
		}
	}
	for _, b := range p.Bodies {
		var e errand.Ends
		var size int64
		if b.Before != nil {
			size = b.Before.AllocatedSize
		}
		if to := b.Request.Destination; to != nil {
			at, err := d.at(ctx, to.Pool, 0, false)
			if err != nil {
				return err
			}
			e.Destination = at.Folder
		}
		source := b.Request.Source
		at, err := d.at(ctx, source.Pool, size, reads && !source.IsDevice()) // the disks of a computer are read there
		if err != nil {
			return err
		}
		e.Source, e.From = at.Folder, at.From
		d.Ends[b.ID] = e
	}
	d.jobs, err = d.planner.porters.CanWork(ctx, d.Porter)
	return err
}

// pool finds where a pool of disks lies that move while their machine runs.
func (d *doing) pool(ctx context.Context, name string, size int64, reads bool) (err error) {
	d.Pools[name], err = d.at(ctx, name, size, reads)
	return err
}

// at is where a pool lies for it: on its computer, or where it only reads so many bytes there, at the porter that it reads from the fastest.
func (d *doing) at(ctx context.Context, pool string, size int64, reads bool) (l errand.Lies, err error) {
	if l.Folder = d.there[d.Porter][pool]; l.Folder != "" || !reads {
		if l.Folder == "" {
			err = errApart
		}
		return l, err
	}
	for _, name := range slices.Sorted(maps.Keys(d.there)) {
		folder := d.there[name][pool]
		if folder == "" {
			continue
		}
		peer, peerErr := d.planner.porters.FromPeer(ctx, d.Porter, name)
		if peerErr != nil {
			err = cmp.Or(err, peerErr)
			continue
		}
		if l.From == nil || peer.Speed > l.From.Speed {
			l = errand.Lies{Folder: folder, From: &peer}
		}
	}
	if l.From == nil {
		return l, cmp.Or(err, errApart)
	}
	if !slices.ContainsFunc(d.From, func(p errand.Peer) bool { return p.Porter == l.From.Porter }) {
		d.From = append(d.From, *l.From)
	}
	d.line += float64(size+1) / cmp.Or(l.From.Speed, guessed)
	return l, nil
}

// folders are where pools lie on computers with porters: by porters, and then by pools.
func (s *Planner) folders(ctx context.Context, pools []store.Pool) (map[string]map[string]string, error) {
	all := map[string]map[string]string{}
	for _, pool := range pools {
		for _, w := range append([]store.Way{{Host: pool.Host, Folder: pool.Folder}}, pool.Ways...) {
			if w.Host == places.LocalHost {
				continue
			}
			porter, err := s.places.HasPorter(ctx, w.Host)
			if err != nil {
				return nil, err
			}
			if !porter {
				continue
			}
			if all[w.Host] == nil {
				all[w.Host] = map[string]string{}
			}
			all[w.Host][pool.Name] = w.Folder
		}
	}
	return all, nil
}

// remains says why the work of a plan stays with the service, empty where it need not.
func remains(p plan.Plan, pools []store.Pool) string {
	if p.Packed != nil || len(p.Bodies) == 0 || !p.Request.IsKept() && p.Request.Kind != plan.Prove {
		return "that is not given away"
	}
	if m := p.Machine; m != nil && (p.Request.Kind != plan.MoveMachine && p.Request.Kind != plan.CopyMachine || m.Undoes != nil ||
		m.First || m.Tell != "" || m.Rests != "") {
		return "of machines, those are given away whose disks are carried before they are started in their new place, and are not shared"
	}
	if p.Request.Kind == plan.Undo || p.Fit != nil || p.Request.AgainstDisk != nil {
		return "that is not given away"
	}
	for _, d := range p.Bodies {
		if len(DefinitionPools(d)) > 0 {
			return "definitions of machines follow their disks"
		}
		if d.Adapt != nil {
			return "files inside of the copy are changed"
		}
		if d.IsFolder() || d.Request.AgainstDisk != nil || d.Request.Source.Unpacks > 0 {
			return "that is not given away"
		}
		if to := d.Request.Destination; to != nil && to.IsDevice() {
			return "a physical disk is written over"
		}
	}
	for _, pool := range pools {
		if pool.Volumes != "" {
			return "it is of volumes"
		}
	}
	return ""
}

// poolsOf are the pools of a plan.
func (s *Planner) poolsOf(ctx context.Context, p plan.Plan) (pools []store.Pool, err error) {
	for _, name := range p.Pools() {
		pool, err := s.places.Record(ctx, name)
		if err != nil {
			return nil, err
		}
		pools = append(pools, pool)
	}
	return pools, nil
}

// Now says who does the work of a plan as it begins, or goes on: the porter that the plan names, as long as it can, or another one that reaches the same storage, or where the
// one of the plan is there and does no work, the service. What was moved half is finished by the one that began.
func (s *Planner) Now(ctx context.Context, p plan.Plan) (Doer, error) {
	if p.Porter == "" {
		return Doer{}, nil
	}
	_, all, why, err := s.doers(ctx, p)
	if err != nil {
		return Doer{}, err
	}
	if i := slices.IndexFunc(all, func(d Doer) bool { return d.Porter == p.Porter }); i >= 0 {
		return all[i], nil
	}
	pinned := p.Request.By != "" || p.Request.Release || p.Machine != nil && len(p.Machine.Live) > 0
	switch {
	case len(all) == 0 && p.Machine != nil && p.Machine.KeepEvery > 0: // its old host may be gone, which the service asks about
		return Doer{}, nil
	case len(all) > 0 && !pinned:
		return all[0], nil
	case !pinned && !errors.Is(why, storage.ErrLost): // it is reached, and works no more
		return Doer{}, nil
	}
	return Doer{}, fmt.Errorf("%w: waiting for the porter %s: %w", storage.ErrLost, p.Porter, cmp.Or(why, errNobody))
}
