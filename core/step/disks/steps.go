package disks

import (
	"context"
	"errors"
	"slices"

	"bagaglio/core/plan"
	"bagaglio/core/step"
)

func init() {
	step.Register(step.Family{Name: "disk", Begin: begin, Kinds: []step.Kind{
		{Name: plan.StepLook, Do: step.On((*work).look)},
		{Name: plan.StepSalvage, Do: step.On((*work).salvage)},
		{Name: plan.StepFit, Do: step.On((*work).fit)},
		{Name: plan.StepFill, Do: step.On((*work).fill)},
		{Name: plan.StepLink, Do: step.On((*work).link)},
		{Name: plan.StepSecure, With: plan.StepFill},
		{Name: plan.StepProve, Do: step.On((*work).proveMade)},
		{Name: plan.StepAdapt, Do: step.On((*work).adapt)},
		{Name: plan.StepOther, With: plan.StepVerify},
		{Name: plan.StepSums, With: plan.StepProve},
		{Name: plan.StepVerify, Do: step.On((*work).verify)},
		{Name: plan.StepPublish, Do: step.On((*work).publish), Undo: undo(plan.StepPublish, (*work).unpublish)},
		{Name: plan.StepSave, Do: step.On((*work).save)},
		{Name: plan.StepWipe, Do: step.On((*work).wipe)},
		{Name: plan.StepOverwrite, Do: step.On((*work).overwrite)},
		{Name: plan.StepReadBack, Do: step.On((*work).readDevice)},
		{Name: plan.StepTable, Do: step.On((*work).moveTable)},
		{Name: plan.StepRename, Do: step.On((*work).rename), Undo: undo(plan.StepRename, (*work).unrename)},
		{Name: plan.StepHold, Do: step.On((*work).remove), Undo: undo(plan.StepHold, (*work).unrelease)},
		{Name: plan.StepStill, Do: see(plan.StepStill)},
		{Name: plan.StepPart, Do: see(plan.StepPart)},
		{Name: plan.StepHandOver, Do: step.On((*work).handOver), Undo: undo(plan.StepHandOver, (*work).handBack)},
		{Name: plan.StepRelease, Do: step.On((*work).release), Undo: undo(plan.StepRelease, (*work).unrelease)},
	}})
}

// undo makes an action of what takes a kind of step back. It is past the point of return: it is not cancelled.
func undo(kind string, back func(*work, context.Context) error) step.Action {
	return step.On(func(w *work, ctx context.Context) error {
		if w.state.Files == nil { // an earlier time did it
			if _, err := w.Log.Load(&w.state); err != nil {
				return err
			}
		}
		return w.report.Run(kind, nil, nil, func() error { return back(w, context.WithoutCancel(ctx)) })
	})
}

// plans tells whether the plan has a step of a kind for the disk.
func (w *work) plans(kind string) bool {
	return slices.ContainsFunc(w.Plan.Steps, func(s plan.Step) bool { return s.ID == w.Log.ID(kind) })
}

// look checks the source's tables.
func (w *work) look(ctx context.Context) error {
	return w.report.Run(plan.StepLook, nil, nil, func() error {
		facts, err := look(ctx, w.Ends.Source, w.real, checkAll)
		return errors.Join(err, facts.Problem)
	})
}

// fill leaves the new image, synced, in the staging folder.
func (w *work) fill(ctx context.Context) (err error) {
	if w.disk.IsFolder() {
		return w.fillTree(ctx)
	}
	if w.keepsUp() {
		if w.living, err = w.keepUp(ctx); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, w.living.changes.Close()) }()
	}
	if w.copied, err = w.write(ctx, &w.src); err != nil {
		if thawed := w.goOn(); thawed != nil && errors.Is(err, errChanged) {
			err = thawed // that is why it could change
		}
		return w.asking(err)
	}
	if w.disk.Fit == nil { // whose files are compared with it
		if err := w.goOn(); err != nil {
			return err
		}
	}
	w.Log.Finish(plan.StepFill) // kept with what was read back meanwhile
	return w.keepAlong(ctx, w.readBack)
}

// proveMade compares what was written with what was read, and puts the tag beside it.
func (w *work) proveMade(ctx context.Context) (err error) {
	if w.disk.IsFolder() {
		return w.proveTree(ctx)
	}
	if w.copied.Leaves == nil { // an earlier time wrote it
		if w.copied, err = w.recall(ctx, plan.StepFill, w.src.Size(), nil); err != nil {
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
	if !w.isLetGo() { // otherwise it changes again
		if err := w.closingLook(ctx, w.src, w.copied); err != nil {
			return err
		}
	}
	if err := w.goOn(); err != nil {
		return err
	}
	if w.disk.Adapt != nil { // which its tag speaks of
		return nil
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
		if !w.plans(plan.StepProve) && !w.plans(plan.StepLink) { // which is left out on request
			if err := w.proveMade(ctx); err != nil || w.enough {
				return err
			}
		}
		if err := w.stage(ctx); err != nil {
			return err
		}
	}
	if err := w.name(ctx, plan.StepPublish, w.giveNames); err != nil {
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
func (w *work) name(ctx context.Context, kind string, place func(context.Context) error) error {
	if !w.isPlacing() {
		if err := w.recheck(ctx, false); err != nil {
			return err
		}
	}
	return w.report.Run(kind, nil, nil, func() error { return place(ctx) })
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
	return w.report.Run(plan.StepHandOver, nil, nil, func() error { return w.follows(context.WithoutCancel(ctx)) })
}

// release holds the source.
func (w *work) release(ctx context.Context) error {
	if err := w.recheckLeaving(ctx); err != nil {
		return err
	}
	return w.report.Run(plan.StepRelease, nil, nil, func() error { return w.leave(context.WithoutCancel(ctx)) })
}

// recheckLeaving looks again at what the plan relied on, before the first thing happens that has the source go.
func (w *work) recheckLeaving(ctx context.Context) error {
	if !w.disk.Request.Release || w.disk.Renames || w.Log.IsAt(plan.StepHandOver, plan.StepRelease) {
		return nil
	}
	return errors.Join(w.still(ctx), w.recheck(ctx, true))
}
