package planner

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/core/plan"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/errand"
	"bagaglio/internal/places"
	"bagaglio/internal/store"
)

// Porters tells which porters can be given work now.
type Porters interface {
	// CanWork fails for one that can be given no work now.
	CanWork(ctx context.Context, name string) error
	// FromPeer says where one reads from another one, or why it cannot.
	FromPeer(ctx context.Context, reader, from string) (errand.Peer, error)
}

// UsePorters has porters do what they can do near their storage.
func (s *Planner) UsePorters(p Porters) { s.porters = p }

// assign says who does the work, and why, where porters could.
func (s *Planner) assign(ctx context.Context, p *plan.Plan) error {
	pools, err := s.poolsOf(ctx, *p)
	if err != nil || s.porters == nil {
		return err
	}
	hosts := map[string]bool{} // those of the plan, and whether they have porters
	porter := ""
	for _, pool := range pools {
		if pool.Host == places.LocalHost {
			hosts[pool.Host] = false
			continue
		}
		h, err := s.places.Host(ctx, pool.Host)
		if err != nil {
			return err
		}
		if hosts[pool.Host] = h.Kind == sftp.Porter; hosts[pool.Host] {
			porter = pool.Host
		}
	}
	if porter == "" {
		return nil
	}
	tell := func(format string, args ...any) {
		p.Checks = append(p.Checks, plan.Check{Name: "porter", Severity: plan.Informs, Message: fmt.Sprintf(format, args...)})
	}
	switch why := remains(*p, pools); {
	case len(hosts) > 1:
		from, to, why := between(*p, pools, hosts)
		if why == nil {
			_, why = s.porters.FromPeer(ctx, to, from)
		}
		if why != nil {
			tell("The service does it, and what is copied goes through it: %v.", why)
			return nil
		}
		p.Porter = to
		tell("The porter %s does it, and reads from the porter %s: what is copied goes straight between them, over that line once.", to, from)
	case why != "":
		tell("The service does it, not the porter %s: %s. What is copied goes over the line to it and back.", porter, why)
	default:
		if err := s.porters.CanWork(ctx, porter); err != nil {
			tell("The service does it: %v. What is copied goes over the line to it and back.", err)
			return nil
		}
		p.Porter = porter
		tell("The porter %s does it: all of it lies on its computer, and nothing that is copied goes over the line.", porter)
	}
	return nil
}

// between are the porters that a plan reads from and writes to, or why it is not between two.
func between(p plan.Plan, pools []store.Pool, hosts map[string]bool) (from, to string, why error) {
	if why := remains(p, pools); why != "" {
		return "", "", errors.New(why)
	}
	if p.Request.Kind != plan.Convert && p.Request.Kind != plan.Copy {
		return "", "", errors.New("it is not read from one porter and written by another one")
	}
	on := map[string]string{}
	for _, pool := range pools {
		on[pool.Name] = pool.Host
	}
	for _, d := range p.Bodies {
		f, t := on[d.Request.Source.Pool], on[d.Request.Destination.Pool]
		switch {
		case !hosts[f] || !hosts[t]:
			return "", "", errors.New("not all of its places lie on computers with porters")
		case from != "" && (from != f || to != t):
			return "", "", errors.New("its places lie on more than two computers")
		}
		from, to = f, t
	}
	return from, to, nil
}

// remains says why the work of a plan stays with the service, empty where it need not.
func remains(p plan.Plan, pools []store.Pool) string {
	if p.Machine != nil || p.Packed != nil || len(p.Bodies) == 0 || !p.Request.IsKept() && p.Request.Kind != plan.Prove {
		return "it is not of disks alone"
	}
	if p.Request.Kind == plan.Undo || p.Fit != nil || p.Request.AgainstDisk != nil {
		return "that is not given away"
	}
	for _, d := range p.Bodies {
		if len(DefinitionPools(d)) > 0 {
			return "definitions of machines follow their disks"
		}
		if d.IsFolder() || d.Request.AgainstDisk != nil {
			return "that is not given away"
		}
	}
	for _, pool := range pools {
		if _, device := plan.DevicesHost(pool.Name); device || pool.Volumes != "" {
			return "it is of devices"
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

// Away are the folders of a plan's subjects on the computer of its porter.
func (s *Planner) Away(ctx context.Context, p plan.Plan) (map[string]errand.Ends, error) {
	pools, err := s.poolsOf(ctx, p)
	if err != nil {
		return nil, err
	}
	folder, on := map[string]string{}, map[string]string{}
	for _, pool := range pools {
		folder[pool.Name], on[pool.Name] = pool.Folder, pool.Host
	}
	all := map[string]errand.Ends{}
	for _, d := range p.Bodies {
		from, to := d.Request.Source.Pool, d.Request.Destination
		e := errand.Ends{Source: folder[from]}
		if on[from] != p.Porter {
			peer, err := s.porters.FromPeer(ctx, p.Porter, on[from])
			if err != nil {
				return nil, err
			}
			e.From = &peer
		}
		if to != nil {
			e.Destination = folder[to.Pool]
			if on[to.Pool] != p.Porter {
				return nil, fmt.Errorf("the pool %s does not lie on %s any more: plan it again", to.Pool, p.Porter)
			}
		}
		all[d.ID] = e
	}
	return all, nil
}
