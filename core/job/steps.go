package job

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/plan"
)

// action is what a kind of step does. Both look first at what is there already, so that they can be called again after they were
// interrupted at any moment.
type action struct {
	do func(*work, context.Context) error
	// undo takes it back after the job has ended. It does nothing where do never began. Nil where nothing is left to be taken back.
	undo func(*work, context.Context) error
	// with is the kind of step that does this one too.
	with string
}

// actions are those of the kinds of steps of a disk.
var actions = map[string]action{
	plan.StepLook:     {do: (*work).look},
	plan.StepFill:     {do: (*work).fill},
	plan.StepSecure:   {with: plan.StepFill},
	plan.StepProve:    {do: (*work).proveMade},
	plan.StepSums:     {with: plan.StepProve},
	plan.StepVerify:   {do: (*work).verify},
	plan.StepPublish:  {do: (*work).publish, undo: (*work).unpublish},
	plan.StepRename:   {do: (*work).rename, undo: (*work).unrename},
	plan.StepHandOver: {do: (*work).handOver, undo: (*work).handBack},
	plan.StepRelease:  {do: (*work).release, undo: (*work).unrelease},
}

// forward goes through the steps that are left.
func (w *work) forward(ctx context.Context) error {
	for i, s := range w.Plan.Steps {
		a, ok := actions[s.Kind]
		if !ok {
			return fmt.Errorf("a step of the kind %q: %w", s.Kind, errors.ErrUnsupported)
		}
		if a.with != "" || slices.Contains(w.state.Done, s.ID) {
			continue
		}
		if err := a.do(w, ctx); err != nil || w.enough {
			return err
		}
		if err := w.done(ctx, i); err != nil {
			return err
		}
	}
	return nil
}

// done keeps that a step is done.
func (w *work) done(ctx context.Context, i int) error {
	w.state.done(w.Plan.Steps[i].ID)
	if w.state.Step == "" { // nothing of it is anywhere yet
		return nil
	}
	return w.keep(ctx, nil)
}

// step is the ID of the step of a kind.
func (w *work) step(kind string) string { return w.disk.ID + "." + kind }

// plans tells whether the plan has a step of a kind.
func (w *work) plans(kind string) bool {
	return slices.ContainsFunc(w.Plan.Steps, func(s plan.Step) bool { return s.Kind == kind })
}

// look checks the source's tables.
func (w *work) look(ctx context.Context) error {
	return w.report.run(plan.StepLook, nil, nil, func() error {
		facts, err := look(ctx, w.Ends.Source, w.real, checkAll)
		return errors.Join(err, facts.Problem)
	})
}

// fill leaves the new image, synced, in the staging folder.
func (w *work) fill(ctx context.Context) (err error) {
	if w.copied, err = w.write(ctx, &w.src); err != nil {
		return err
	}
	w.state.done(w.step(plan.StepFill)) // kept with what was read back meanwhile
	return w.keepAlong(ctx, w.readBack)
}

// proveMade compares what was written with what was read, and puts the tag beside it.
func (w *work) proveMade(ctx context.Context) (err error) {
	if w.copied.Leaves == nil { // an earlier time wrote it
		if w.copied, err = w.recall(ctx, w.step(plan.StepFill), w.src.Size(), nil); err != nil {
			return err
		}
	}
	compare := w.compareFiles
	if w.carried().Guest() {
		compare = w.compare
	}
	if err := compare(ctx, w.copied); err != nil {
		return err
	}
	if err := w.closingLook(ctx, w.src, w.copied); err != nil {
		return err
	}
	if err := w.makeTag(ctx, w.guestResult(w.copied)); err != nil {
		return err
	}
	better, err := w.wins()
	w.enough = err == nil && !better
	return err
}

// publish gives the files of the new image their names.
func (w *work) publish(ctx context.Context) error {
	if w.state.Staged == nil {
		if !w.plans(plan.StepProve) { // which is left out on request
			if err := w.proveMade(ctx); err != nil || w.enough {
				return err
			}
		}
		if err := w.stage(ctx); err != nil {
			return err
		}
	}
	if err := w.name(ctx, plan.StepPublish, w.place); err != nil {
		return err
	}
	_, err := readHeld(w.Ends.Destination, heldID(w.ID))
	w.state.Replaced = err == nil
	if space, err := w.Ends.Destination.Space(); err == nil && space.Removable { // everything was synced on the way
		w.remark("everything is on stable storage: it is safe to unplug the drive")
	}
	return nil
}

// rename gives the files of a disk that stays on its storage their new names.
func (w *work) rename(ctx context.Context) error { return w.name(ctx, plan.StepRename, w.moveFiles) }

// name gives files their names. Before the first gets its own, what the plan relied on is looked at again.
func (w *work) name(ctx context.Context, step string, place func(context.Context) error) error {
	if !w.isPlacing() {
		if err := w.recheck(ctx, false); err != nil {
			return err
		}
	}
	return w.report.run(step, nil, nil, func() error { return place(ctx) })
}

// isPlacing tells whether some files have their names already: then there is no way back by stopping.
func (w *work) isPlacing() bool {
	if w.disk.Renames {
		return w.state.Staged != nil
	}
	return slices.ContainsFunc(w.state.Files, func(name string) bool { return w.isPlaced(w.carried().Dir(), name) })
}

// handOver has the definitions of machines name the disk in its new place.
func (w *work) handOver(ctx context.Context) error {
	if err := w.recheckLeaving(ctx); err != nil {
		return err
	}
	return w.report.run(plan.StepHandOver, nil, nil, func() error { return w.follows(context.WithoutCancel(ctx)) })
}

// release holds the source.
func (w *work) release(ctx context.Context) error {
	if err := w.recheckLeaving(ctx); err != nil {
		return err
	}
	return w.report.run(plan.StepRelease, nil, nil, func() error { return w.leave(context.WithoutCancel(ctx)) })
}

// recheckLeaving looks again at what the plan relied on, before the first thing happens that has the source go.
func (w *work) recheckLeaving(ctx context.Context) error {
	if !w.disk.Request.Release || w.disk.Renames || w.isAt(plan.StepHandOver, plan.StepRelease) {
		return nil
	}
	return w.recheck(ctx, true)
}

// isAt tells whether what began last is a step of one of the kinds.
func (w *work) isAt(kinds ...string) bool { return w.state.isAt(w.disk, kinds...) }

func (s State) isAt(d plan.Disk, kinds ...string) bool {
	return slices.ContainsFunc(kinds, func(kind string) bool { return s.Step == d.ID+"."+kind })
}

// done notes that a step is done.
func (s *State) done(id string) {
	if !slices.Contains(s.Done, id) {
		s.Done = append(s.Done, id)
	}
}
