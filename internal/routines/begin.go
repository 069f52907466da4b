package routines

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/core/step"
	"bagaglio/internal/planner"
	"bagaglio/internal/queue"
	"bagaglio/internal/store"
)

// planEvery is how often it is looked whether a plan is ready.
const planEvery = 100 * time.Millisecond

// mostDisks bounds how many disks of a pool a routine is done for, as a group has at most so many requests.
const mostDisks = 1000

// soon begins a run in the background.
func (x *Routines) soon(id int64) {
	x.all.Go(func() {
		run, err := x.records.Run(x.ctx, id)
		if err != nil {
			x.log.Error("doing a routine", "run", id, "error", err)
			return
		}
		x.begin(run)
	})
}

// begin plans a run and starts its jobs, and keeps what came of that. One that is interrupted is begun the next time; none is begun twice.
func (x *Routines) begin(run store.KeptRun) {
	leftOut, err := x.tryBegin(&run)
	if x.ctx.Err() != nil {
		return
	}
	run.Over = true
	if err != nil {
		run.Problem = step.Explain(err).Error()
		x.log.Warn("a routine was not done", "routine", run.Routine, "why", run.Problem)
	}
	if b, err := json.Marshal(leftOut); err == nil && leftOut != nil {
		run.LeftOut = string(b)
	}
	if err := x.records.Patiently(func() error { return x.records.ChangeRun(x.ctx, run) }); err != nil {
		x.log.Error("keeping what came of a routine", "routine", run.Routine, "error", err)
	}
}

// tryBegin does so, and returns what is left out.
func (x *Routines) tryBegin(run *store.KeptRun) (leftOut []string, err error) {
	_, r, err := x.one(x.ctx, run.Routine)
	if err != nil {
		return nil, err
	}
	if run.Plan == "" {
		var said map[string]string
		if err := json.Unmarshal([]byte(run.Said), &said); err != nil {
			return nil, err
		}
		g, err := x.group(x.ctx, r.Routine, said)
		if err != nil || g.Balance == nil && len(g.Requests) == 0 { // there is nothing to do
			return nil, err
		}
		kept, err := x.planned(g)
		if err != nil {
			return nil, err
		}
		if r.LeaveOut {
			if g.Requests, leftOut = without(kept.Plan); len(g.Requests) == 0 {
				return leftOut, nil
			}
			if g.Balance = nil; len(leftOut) > 0 {
				if kept, err = x.planned(g); err != nil {
					return leftOut, err
				}
			}
		}
		run.Plan = kept.ID
		if err := x.records.ChangeRun(x.ctx, *run); err != nil {
			return leftOut, err
		}
	}
	started, err := x.queue.StartGroup(x.ctx, queue.New{Plan: run.Plan, Who: run.Who}) // once, however often it is asked for
	if err == nil {
		run.Jobs = started.ID
	}
	return leftOut, err
}

// group is what a routine is to do now.
func (x *Routines) group(ctx context.Context, r routine.Routine, said map[string]string) (g plan.Group, err error) {
	values, err := r.Values(said)
	if err != nil {
		return g, err
	}
	each, err := r.For(values)
	var things []map[string]string
	if err == nil && each != nil {
		things, err = x.things(ctx, *each)
	}
	if err != nil {
		return g, err
	}
	return r.Group(values, things)
}

// things are those that a routine is done for.
func (x *Routines) things(ctx context.Context, each routine.Each) (all []map[string]string, err error) {
	if each.MachinesOf != "" {
		found, _, err := x.machines.List(ctx, each.MachinesOf)
		for _, m := range found {
			all = append(all, map[string]string{"machine": m.Host + ":" + m.Name, "name": m.Name})
		}
		return all, err
	}
	q := store.DiskQuery{Limit: mostDisks}
	list, err := x.places.Disks(ctx, each.DisksOf, q, true)
	if err == nil {
		err = list.Problem
	}
	if err != nil {
		return nil, err
	}
	if list.Total > mostDisks {
		return nil, fmt.Errorf("%w: the pool %s has %d disks, and a group %d at most", plan.ErrRequest, each.DisksOf, list.Total, mostDisks)
	}
	for _, d := range list.Disks {
		if !each.Tagged || d.Tag != "" {
			name := path.Base(d.Path)
			all = append(all, map[string]string{"path": d.Path, "disk": strings.TrimSuffix(name, path.Ext(name))})
		}
	}
	return all, nil
}

// planned is the plan of a group, when it is ready.
func (x *Routines) planned(g plan.Group) (kept planner.KeptGroup, err error) {
	for kept, err = x.planner.PlanGroup(x.ctx, g); err == nil && !kept.Plan.Ready; kept, err = x.planner.KeptGroup(x.ctx, kept.ID) {
		select {
		case <-time.After(planEvery):
		case <-x.ctx.Done():
			return kept, x.ctx.Err()
		}
	}
	return kept, err
}

// without returns the requests of a plan that can be done, and what the others are, with why.
func without(g plan.Group) (can []plan.Request, leftOut []string) {
	for _, p := range g.Parts {
		why := ""
		for _, c := range p.Checks {
			if c.Severity == plan.Blocks && why == "" {
				why = c.Message
			}
		}
		if why == "" {
			can = append(can, p.Request)
		} else {
			leftOut = append(leftOut, p.Request.Subject()+": "+why)
		}
	}
	return can, leftOut
}
