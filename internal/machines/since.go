package machines

import (
	"context"
	"fmt"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/store"
)

// mostJobs is how many of the last jobs of a machine are looked at for a receipt of it.
const mostJobs = 100

// Changes are what has changed on a machine since a receipt.
type Changes struct {
	Job     int64
	Receipt receipt.Receipt
	Since   []machine.Difference
}

// Since says what has changed on a machine since the receipt of the last job that had to do with it, as its host had it then: in its definition, and which of
// its disks were written to since. It fails with store.ErrNotFound where there is none.
func (m *Machines) Since(ctx context.Context, on, name string) (c Changes, err error) {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return c, err
	}
	if x.Problem != nil {
		return c, fmt.Errorf("reading what it is: %w", x.Problem)
	}
	jobs, err := m.records.Jobs(ctx, store.JobQuery{State: store.Done, Machine: called(x), Limit: mostJobs})
	if err != nil {
		return c, err
	}
	for _, j := range jobs {
		if j.Receipt == nil || j.Receipt.Machine == nil || j.Receipt.Machine.Is == nil || j.Plan.Machine == nil ||
			ended(*j.Plan.Machine) != called(x) {
			continue
		}
		c = Changes{Job: j.ID, Receipt: *j.Receipt, Since: machine.Compare(*j.Receipt.Machine.Is, x.Is)}
		written, err := m.written(ctx, x, j.Receipt.Finished)
		c.Since = append(c.Since, written...)
		return c, err
	}
	return c, fmt.Errorf("a receipt of %s that says what it was: %w", called(x), store.ErrNotFound)
}

// ended is where a machine was when a job ended that had to do with it.
func ended(m plan.Machine) string {
	if m.Undoes != nil {
		return m.Here()
	}
	return m.There()
}

// written tells which disks of a machine were written to since.
func (m *Machines) written(ctx context.Context, x Machine, since time.Time) (all []machine.Difference, err error) {
	for i, d := range x.Disks {
		if d.InPool == "" {
			continue
		}
		at := plan.Place{Pool: d.InPool, Path: d.Path}
		modified, changed, err := m.places.Times(ctx, at)
		if err != nil {
			return nil, fmt.Errorf("looking at %s: %w", at, err)
		}
		what := ""
		switch {
		case modified.After(since):
			what = "written to, last at " + modified.Local().Format(time.DateTime)
		case changed.After(since): // its time of writing may have been set back
			what = "perhaps written to: something of its file was changed, last at " + changed.Local().Format(time.DateTime)
		default:
			continue
		}
		all = append(all, machine.Difference{What: fmt.Sprintf("disk %d, content", i+1), Before: "as it was then", After: what})
	}
	return all, nil
}
