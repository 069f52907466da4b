package disks

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// prepareRemoval looks at a disk that is to go, or at a file that is none.
func prepareRemoval(ctx context.Context, ends step.Ends, r plan.Request, known step.Known) (plan.Plan, error) {
	facts := plan.Facts{Knowledge: known.Knowledge}
	s := &facts.Source
	src, err := inspect.Open(ctx, r.Source.Origin(ends.Source), r.Source.Format, inspect.Selection{})
	if err == nil {
		defer src.Close()
		if facts.Source, err = look(ctx, ends.Source, src, func(context.Context, disk.Reader) error { return nil }); err != nil {
			return plan.Plan{}, err
		}
		s.Problem = nil // what is damaged may go
	} else {
		info, statErr := ends.Source.Stat(r.Source.Path)
		if folder := r.Source.IsFolder(); statErr == nil && (folder && !info.IsDir || !folder && !info.Regular) {
			statErr = fmt.Errorf("%s is no file, and opens as no disk: %w", r.Source.Path, err)
		}
		if statErr != nil {
			s.Problem = step.Explain(statErr)
			return plan.Make(r, facts)
		}
		size, room := sizeOf(ctx, ends.Source, info)
		*s = plan.SourceFacts{Opens: r.Source.Path, FileSize: size, Allocated: room}
		s.Description.Files = []string{r.Source.Path}
	}
	s.Host = known.SourceHost
	if err := freeToGo(ends.Source, s.Description.Files); errors.Is(err, step.ErrInUse) {
		s.InUse = err
	} else if err != nil {
		return plan.Plan{}, err
	}
	space, err := ends.Source.Space()
	if err != nil {
		return plan.Plan{}, err
	}
	s.ReadOnly = space.ReadOnly
	standing := known.Standing
	if standing == nil {
		standing = standingIn(ends.Source, path.Dir(s.Opens))
	}
	all, err := standing(ctx, s.Description.Files)
	if err != nil {
		return plan.Plan{}, err
	}
	s.Standing = slices.DeleteFunc(all, func(f string) bool { return slices.Contains(s.Description.Files, f) })
	if known.Users != nil {
		if s.Users, err = known.Users(ctx, append([]string{s.Opens}, s.Description.Files...)); err != nil {
			return plan.Plan{}, err
		}
	}
	return identified(ends, r, s.Description.Files, facts)
}

// openRemoval takes up what an earlier time did of removing a disk, or of giving it back.
func (w *work) openRemoval() (err error) {
	r := &w.proof
	r.Source.Side = *w.disk.Before
	if u := w.disk.Undoes; u != nil {
		w.state, err = stateOf(u.Journal, u.Job, w.Subject)
	} else {
		_, err = w.Log.Load(&w.state)
	}
	r.Outcome = receipt.Proven
	r.Compared = "the identity of each file on the storage before and after: nothing was copied, and its content was not read"
	w.unidentified(w.Ends.Source, w.state.Released)
	return err
}

// remove puts the disk into the holding folder.
func (w *work) remove(ctx context.Context) error {
	if !w.Log.IsAt(plan.StepHold) {
		if err := errors.Join(w.recheck(ctx, false), w.isTheOne()); err != nil {
			return err
		}
	}
	return w.report.Run(plan.StepHold, nil, nil, func() error {
		ctx := context.WithoutCancel(ctx)
		if err := w.noteReleased(); err != nil {
			return err
		}
		if err := w.enter(ctx, plan.StepHold); err != nil {
			return err
		}
		held := Held{ID: w.heldSource(), Path: w.disk.Before.Place.Path, Until: time.Now().Add(w.Hold), Why: "removed by " + w.By}
		if m := w.Plan.Machine; m != nil {
			held.Why = fmt.Sprintf("removed with the machine %s by %s", m.Here(), w.By)
			held.Machine = &HeldMachine{Machine: m.Here(), File: m.Name + m.Extension, Definition: m.Stored}
		}
		if err := w.holdSource(held); err != nil {
			return err
		}
		for name, id := range w.state.Released {
			now, err := identity(w.Ends.Source, w.heldAt(name))
			if err == nil && !isIt(id, now) {
				err = fmt.Errorf("%w: %s is another file (%s) than was to go (%s)", step.ErrNotProven, name, now, id)
			}
			if err != nil {
				return err
			}
		}
		w.unidentified(w.Ends.Source, w.state.Released)
		w.remark(fmt.Sprintf("it is held until %s", held.Until.Local().Format("2006-01-02 15:04")))
		return nil
	})
}

// AnotherFile is the check for a file that is another one than the one that was planned with.
func AnotherFile(name string) plan.Check {
	return plan.Check{
		Name: "source", Severity: plan.Blocks, Message: fmt.Sprintf("%s is another file than when this was planned: plan it again.", name),
	}
}

// isTheOne fails where a file is another one than when it was planned.
func (w *work) isTheOne() error {
	for _, u := range w.uses() {
		info, err := w.Ends.Source.Stat(u.Path)
		if err != nil {
			return err
		}
		if u.ID != "" && info.ID != u.ID {
			return &step.BlockedError{Check: AnotherFile(u.Path)}
		}
	}
	return nil
}

// PrepareReturn plans to give a disk that a job removed its names again. It changes nothing.
func PrepareReturn(ends step.Ends, e Ended, d plan.Disk) (plan.Plan, error) {
	state, err := stateOf(e.Journal, e.Job, d.ID)
	if err != nil {
		return plan.Plan{}, err
	}
	w := &work{Job: step.Job{ID: plan.TaskID(e.Task, d.ID), Ends: ends}, disk: d, state: state}
	p := plan.TakeRemovalBack(d, plan.Undone{Job: e.Job, Task: e.Task, Journal: e.Journal})
	if _, err := ends.Source.Space(); err != nil { // a drive that is away says nothing of its files
		return plan.Plan{}, err
	}
	for name, id := range state.Released {
		held, heldErr := identity(ends.Source, w.heldAt(name))
		there, thereErr := identity(ends.Source, name)
		switch {
		case heldErr == nil && thereErr == nil:
			p.Checks = append(p.Checks, plan.Check{
				Name: "undo", Severity: plan.Blocks, Message: name + " is there now, and nothing is overwritten: move it away first.",
			})
		case heldErr == nil && isIt(id, held), thereErr == nil && isIt(id, there):
		default:
			p.Checks = append(p.Checks, plan.Check{
				Name: "undo", Severity: plan.Blocks, Message: name + " is not held any more: it cannot come back.",
			})
		}
	}
	return p, nil
}
