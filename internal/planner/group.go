package planner

import (
	"context"
	"fmt"
	"sync"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/records"

	"github.com/google/uuid"
)

// KeptGroup is the plan of a group that is kept, to be started.
type KeptGroup struct {
	ID   string
	Plan plan.Group
	// Done and Of are how many of its requests are planned so far.
	Done, Of int
	Group    int64 // that was started with it, 0 for none
}

// readyIn is for how long whoever asks for the plan of a group waits for it, before it is made in the background.
const readyIn = 2 * time.Second

// groups are the plans that are being made.
type groups struct {
	mu     sync.Mutex
	making map[string]*making
	all    sync.WaitGroup
}

type making struct {
	ready    chan struct{} // closed at the end
	mu       sync.Mutex
	done, of int
}

// PlanGroup says what several requests would do, or those that balance pools, and keeps that so that it can be started. A large one goes on being
// planned when it returns.
func (s *Planner) PlanGroup(ctx context.Context, g plan.Group) (KeptGroup, error) {
	g.Name, g.Parts, g.Ready, g.Problem, g.Rooms = storage.Printable(g.Name), []plan.Part{}, false, "", nil
	if g.AtOnce < 0 || g.StopAfter < 0 {
		return KeptGroup{}, fmt.Errorf("%w: a group runs a number of jobs at once, and stops after a number that failed", records.ErrInvalid)
	}
	if (g.Balance == nil) == (len(g.Requests) == 0) {
		return KeptGroup{}, fmt.Errorf("%w: a group is of requests, or of those that balance pools", records.ErrInvalid)
	}
	for _, r := range g.Requests {
		if err := r.Validate(); err != nil {
			return KeptGroup{}, err
		}
	}
	if g.Balance != nil {
		if err := g.Balance.Validate(); err != nil {
			return KeptGroup{}, err
		}
	}
	id := uuid.NewString()
	if err := s.records.AddGroupPlan(ctx, id, g, time.Now()); err != nil {
		return KeptGroup{}, err
	}
	m := s.make(id, g)
	select {
	case <-m.ready:
	case <-time.After(readyIn):
	case <-ctx.Done():
	}
	return s.KeptGroup(context.WithoutCancel(ctx), id)
}

// KeptGroup returns the plan of a group as far as it is made. One that an earlier run of the service did not finish is made anew.
func (s *Planner) KeptGroup(ctx context.Context, id string) (KeptGroup, error) {
	g, started, err := s.records.GroupPlan(ctx, id)
	if err != nil {
		return KeptGroup{}, fmt.Errorf("plan %q: %w", id, err)
	}
	k := KeptGroup{ID: id, Plan: g, Done: len(g.Parts), Of: len(g.Requests), Group: started}
	if !g.Ready {
		m := s.make(id, g)
		m.mu.Lock()
		k.Done, k.Of = m.done, m.of
		m.mu.Unlock()
	}
	return k, nil
}

// make has a group planned, unless it is being planned.
func (s *Planner) make(id string, g plan.Group) *making {
	s.groups.mu.Lock()
	defer s.groups.mu.Unlock()
	if m, ok := s.groups.making[id]; ok {
		return m
	}
	m := &making{ready: make(chan struct{}), of: len(g.Requests)}
	if s.groups.making == nil {
		s.groups.making = map[string]*making{}
	}
	s.groups.making[id] = m
	s.groups.all.Go(func() {
		defer func() {
			s.groups.mu.Lock()
			delete(s.groups.making, id)
			s.groups.mu.Unlock()
			close(m.ready)
		}()
		g, ok := s.planParts(g, m)
		if !ok { // the service closes: it is planned anew by whoever asks for it then
			return
		}
		if err := s.records.Patiently(func() error { return s.records.SetGroupPlan(context.Background(), id, g) }); err != nil {
			s.log.Error("keeping the plan of a group", "plan", id, "error", err)
		}
	})
	return m
}

// planParts plans all requests of a group, and tells whether it came to its end.
func (s *Planner) planParts(g plan.Group, m *making) (plan.Group, bool) {
	ctx, since := s.ctx, time.Now()
	g.Ready, g.Parts = true, []plan.Part{}
	if g.Balance != nil {
		b, err := s.balance(ctx, *g.Balance)
		if err != nil {
			g.Problem = step.Explain(err).Error()
			return g, ctx.Err() == nil
		}
		g.Balanced, g.Requests = &b, nil
		for _, c := range b.Carries {
			g.Requests = append(g.Requests, c.Request)
		}
	}
	m.mu.Lock()
	m.of = len(g.Requests)
	m.mu.Unlock()
	used := plan.Used{}
	for _, r := range g.Requests {
		p, err := s.Prepare(ctx, r, since)
		if ctx.Err() != nil {
			return g, false
		}
		if err != nil {
			p = plan.Plan{Request: r, Checks: []plan.Check{{Name: "request", Severity: plan.Blocks, Message: step.Explain(err).Error()}}}
		}
		g.Parts = append(g.Parts, plan.PartOf(p, used))
		m.mu.Lock()
		m.done++
		m.mu.Unlock()
	}
	if g.Balance == nil { // which has looked at that
		g.Survey(s.freeIn(ctx, g))
	}
	return g, ctx.Err() == nil
}

// freeIn is what is free in the pools that something of a group goes into. A pool that cannot be asked is left out.
func (s *Planner) freeIn(ctx context.Context, g plan.Group) map[string]int64 {
	free := map[string]int64{}
	for _, part := range g.Parts {
		for pool := range part.Needs {
			if _, asked := free[pool]; asked {
				continue
			}
			if folder, err := s.folder(ctx, pool); err == nil {
				if space, err := folder.Space(); err == nil {
					free[pool] = space.Free
				}
			}
		}
	}
	return free
}

// Close ends what is being planned.
func (s *Planner) Close() {
	s.stop()
	s.groups.all.Wait()
}
