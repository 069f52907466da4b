// Package routines does work again and again: by hand, and when its time comes.
package routines

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"sync"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/routine"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/planner"
	"bagaglio/internal/queue"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

const (
	lookEvery = time.Second
	// late is by how much a time has passed that was missed: the service did not run.
	late = time.Minute
	// shown is how many runs are told of a routine.
	shown = 20
)

// Routine is work that is done again and again, as it is kept.
type Routine struct {
	routine.Routine

	Who     string // changed it last
	Changed time.Time
	Next    *time.Time // when it is done by itself
	Runs    []Run      // the newest first
}

// Run is one time that it was done, or was to be.
type Run struct {
	ID      int64
	Due     time.Time
	Who     string
	Jobs    int64 // the group that was begun; 0 for none
	Over    bool  // nothing more is to be done to begin it
	Problem string
	LeftOut []string
}

// Routines are those of the service.
type Routines struct {
	records  *records.Records
	places   *places.Places
	machines *machines.Machines
	planner  *planner.Planner
	queue    *queue.Queue
	log      *slog.Logger

	ctx  context.Context // until it is closed
	stop context.CancelFunc
	all  sync.WaitGroup
}

// Open begins to do what its time comes for, and goes on with what an earlier run of the service was to begin. The caller closes it.
func Open(
	r *records.Records,
	p *places.Places,
	m *machines.Machines,
	pl *planner.Planner,
	q *queue.Queue,
	log *slog.Logger,
) (*Routines, error) {
	x := &Routines{records: r, places: p, machines: m, planner: pl, queue: q, log: log}
	x.ctx, x.stop = context.WithCancel(context.Background())
	open, err := r.OpenRuns(x.ctx)
	if err != nil {
		x.stop()
		return nil, err
	}
	for _, run := range open {
		x.all.Go(func() { x.begin(run) })
	}
	x.all.Go(x.tend)
	return x, nil
}

// Close does nothing any more. What was to be begun is, the next time.
func (x *Routines) Close() {
	x.stop()
	x.all.Wait()
}

// tend does what its time comes for.
func (x *Routines) tend() {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-x.ctx.Done():
			return
		case now := <-tick.C:
			due, err := x.records.DueRoutines(x.ctx, now)
			if err != nil && x.ctx.Err() == nil {
				x.log.Error("looking for routines whose time has come", "error", err)
			}
			for _, k := range due {
				x.come(k, now)
			}
		}
	}
}

// come does a routine whose time has come, unless it was missed and is not made good, or the last time is not over yet.
func (x *Routines) come(k store.KeptRoutine, now time.Time) {
	r, err := x.withRuns(x.ctx, k)
	if err != nil || r.Next == nil || r.Times == nil {
		x.log.Error("reading a routine", "routine", k.Name, "error", err)
		return
	}
	run := store.KeptRun{Who: "routine " + k.Name, Said: "{}"}
	next, _ := r.Times.Next(now)
	if missed := now.Sub(*r.Next) > late; missed && r.Times.Missed == routine.Skip {
		run.Over, run.Problem = true, "its time was missed: the service did not run"
	} else if why := x.goesOn(r); why != "" {
		run.Over, run.Problem = true, "the last time is not over yet: "+why
	}
	if r.Times.Once != nil {
		next = time.Time{}
	}
	id, err := x.records.AddRun(x.ctx, run, k, *r.Next, next)
	switch {
	case errors.Is(err, store.ErrNotFound): // it was changed meanwhile
	case err != nil:
		x.log.Error("doing a routine", "routine", k.Name, "error", err)
	case !run.Over:
		x.soon(id)
	default:
		x.log.Warn("a routine was not done", "routine", k.Name, "why", run.Problem)
	}
}

// goesOn tells why the last time that a routine was done is not over; empty where it is.
func (x *Routines) goesOn(r Routine) string {
	for _, run := range r.Runs {
		if !run.Over {
			return "it is still being planned"
		}
		if run.Jobs == 0 {
			continue
		}
		g, err := x.queue.Group(x.ctx, strconv.FormatInt(run.Jobs, 10))
		if err != nil {
			return "" // it is forgotten
		}
		for _, j := range g.Jobs {
			if !j.State.Ended() {
				return fmt.Sprintf("group %d still has jobs that have not ended", run.Jobs)
			}
		}
		return ""
	}
	return ""
}

// Put keeps a routine, in the place of one of that name.
func (x *Routines) Put(ctx context.Context, r routine.Routine, who string) (Routine, error) {
	if err := r.Validate(); err != nil {
		return Routine{}, err
	}
	text, err := json.Marshal(r)
	if err != nil {
		return Routine{}, err
	}
	now := time.Now()
	var next time.Time
	if r.Times != nil {
		var ok bool
		if next, ok = r.Times.Next(now); !ok {
			return Routine{}, fmt.Errorf("%w: the time for it is past", plan.ErrRequest)
		}
	}
	if err := x.records.PutRoutine(ctx, store.KeptRoutine{Name: r.Name, Routine: string(text), Who: who}, now, next); err != nil {
		return Routine{}, err
	}
	return x.Show(ctx, r.Name)
}

// Remove forgets a routine. What it began goes on.
func (x *Routines) Remove(ctx context.Context, name string) error {
	return x.records.RemoveRoutine(ctx, name)
}

// Show returns a routine with its last runs.
func (x *Routines) Show(ctx context.Context, name string) (Routine, error) {
	k, _, err := x.one(ctx, name)
	if err != nil {
		return Routine{}, err
	}
	runs, err := x.withRuns(ctx, k)
	if err != nil {
		return Routine{}, err
	}
	_, r, err := x.one(ctx, name) // as it is with those runs: one may have begun meanwhile
	r.Runs = runs.Runs
	return r, err
}

// List returns all.
func (x *Routines) List(ctx context.Context) (all []Routine, err error) {
	kept, err := x.records.Routines(ctx)
	for _, k := range kept {
		r, err := x.withRuns(ctx, k)
		if err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, err
}

func (x *Routines) withRuns(ctx context.Context, k store.KeptRoutine) (Routine, error) {
	r, err := read(k)
	if err != nil {
		return r, err
	}
	runs, err := x.records.Runs(ctx, k.Name, shown)
	for _, run := range runs {
		one, err := readRun(run)
		if err != nil {
			return r, err
		}
		r.Runs = append(r.Runs, one)
	}
	return r, err
}

// Do does a routine now, with what its blanks are filled with. It returns when that is kept; what comes of it is told by Show.
func (x *Routines) Do(ctx context.Context, name string, said map[string]string, who string) (Run, error) {
	k, r, err := x.one(ctx, name)
	if err != nil {
		return Run{}, err
	}
	if _, err := r.Values(said); err != nil {
		return Run{}, err
	}
	text, err := json.Marshal(said)
	if err != nil {
		return Run{}, err
	}
	var next time.Time
	if r.Next != nil {
		next = *r.Next
	}
	id, err := x.records.AddRun(ctx, store.KeptRun{Who: who, Said: string(text)}, k, time.Now(), next)
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("%w: the routine was changed, or its time came, at this moment: try again", records.ErrState)
	}
	if err != nil {
		return Run{}, err
	}
	x.soon(id)
	run, err := x.records.Run(ctx, id)
	if err != nil {
		return Run{}, err
	}
	return readRun(run)
}

// Plan says what a routine would do now. It fails where that is nothing.
func (x *Routines) Plan(ctx context.Context, name string, said map[string]string) (kept planner.KeptGroup, err error) {
	_, r, err := x.one(ctx, name)
	if err != nil {
		return kept, err
	}
	g, err := x.group(ctx, r.Routine, said)
	if err != nil {
		return kept, err
	}
	if g.Balance == nil && len(g.Requests) == 0 {
		return kept, fmt.Errorf("%w: there is nothing to do: nothing is there that its requests would be made for", records.ErrState)
	}
	return x.planner.PlanGroup(ctx, g)
}

func (x *Routines) one(ctx context.Context, name string) (k store.KeptRoutine, r Routine, err error) {
	if k, err = x.records.Routine(ctx, name); err != nil {
		return k, r, fmt.Errorf("routine %q: %w", name, err)
	}
	r, err = read(k)
	return k, r, err
}

func read(k store.KeptRoutine) (r Routine, err error) {
	if err := json.Unmarshal([]byte(k.Routine), &r.Routine); err != nil {
		return r, fmt.Errorf("reading the routine %s: %w", k.Name, err)
	}
	r.Who = k.Who
	if r.Changed, err = time.Parse(time.RFC3339Nano, k.Changed); err != nil || k.Next == "" {
		return r, err
	}
	next, err := time.Parse(time.RFC3339Nano, k.Next)
	r.Next = &next
	return r, err
}

func readRun(k store.KeptRun) (r Run, err error) {
	r = Run{ID: k.ID, Who: k.Who, Jobs: k.Jobs, Over: k.Over, Problem: k.Problem}
	if r.Due, err = time.Parse(time.RFC3339Nano, k.Due); err != nil {
		return r, err
	}
	return r, json.Unmarshal([]byte(k.LeftOut), &r.LeftOut)
}
