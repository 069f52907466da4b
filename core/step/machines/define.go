package machines

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// define makes the machine known to its new host, unless an earlier time did.
func (w *work) define(ctx context.Context) error {
	if err := w.isOff(ctx); err != nil {
		return err
	}
	if w.m.From != nil { // nobody has looked at it since it was planned
		m, err := w.source(ctx)
		if err == nil {
			err = w.changed(m)
		}
		if err != nil {
			return err
		}
	}
	if err := w.isFree(ctx); err != nil {
		return err
	}
	if err := w.Ends.To.Look(ctx); err != nil && !errors.Is(err, errors.ErrUnsupported) { // otherwise it may not know the new files
		return fmt.Errorf("having %s look for the new disks: %w", w.m.To, err)
	}
	made, err := w.Ends.To.Define(ctx, []byte(w.m.Definition))
	if err != nil {
		return fmt.Errorf("making it known as %s: %w", w.m.There(), err)
	}
	return w.known(ctx, made)
}

// isFree fails where its name or identity belong to another machine of its new host by now.
func (w *work) isFree(ctx context.Context) error {
	all, err := w.Ends.To.Machines(ctx)
	if err != nil {
		return err
	}
	for _, other := range all {
		same := strings.EqualFold(other.UUID, w.m.After.UUID)
		switch {
		case same && (w.m.Stays() || w.state.Known != "" || w.isOurs(other)):
		case same:
			return blocked(
				"identity",
				fmt.Sprintf("There is a machine with the UUID %s by now where %s was to be: %s.", other.UUID, w.m.There(), other.Name),
			)
		case other.Name == w.m.After.Name:
			return blocked("name", fmt.Sprintf("Another machine has come to be %s.", w.m.There()))
		}
	}
	return nil
}

// known notes that its new host knows it, and tells that what else it is to know.
func (w *work) known(ctx context.Context, made host.Machine) error {
	w.state.Known, w.state.Receipt.Defined = made.UUID, true
	for _, k := range w.m.Along {
		if err := w.Ends.To.Adopt(ctx, made, k); err != nil {
			return fmt.Errorf("telling %s of the snapshot %s: %w", w.m.To, k.Name, err)
		}
		w.evidence("%s was told of the snapshot %s", w.m.To, k.Name)
	}
	return w.wake(ctx, w.Ends.To, made, w.m.After)
}

// wake has a machine started with its host where that is so for it, unless its definition says so already.
func (w *work) wake(ctx context.Context, on step.Guests, made host.Machine, is machine.Machine) error {
	d, err := machine.Describe(made.Format, made.Definition)
	if err != nil || d.WithHost || made.WithHost == is.WithHost {
		return err
	}
	return on.StartWithHost(ctx, made, is.WithHost)
}

// isOurs tells whether a machine that the host knows already is the one that an earlier time defined: it has the disks.
func (w *work) isOurs(m host.Machine) bool {
	is, err := machine.Describe(m.Format, m.Definition)
	if err != nil || len(is.Disks) != len(w.m.After.Disks) {
		return false
	}
	for i, d := range is.Disks {
		top := slices.ContainsFunc(w.m.Live, func(l plan.LiveDisk) bool { return l.TopAt == d.File || w.m.First && l.CoverAt == d.File })
		if d.File != w.m.After.Disks[i].File && !top {
			return false
		}
	}
	return true
}

// undefine has the new host forget the machine, or have the definition again that it had.
func (w *work) undefine(ctx context.Context) error {
	if w.m.Stays() {
		if _, err := w.Ends.From.Define(ctx, []byte(w.m.Stored)); err != nil {
			return fmt.Errorf("giving %s its old definition: %w", w.m.Name, err)
		}
		return nil
	}
	m, err := w.there(ctx)
	if errors.Is(err, host.ErrNoMachine) {
		return nil
	}
	if err != nil || w.state.Known == "" && !w.isOurs(m) {
		return err
	}
	if err := w.Ends.To.Forget(ctx, m); err != nil {
		return fmt.Errorf("having %s forgotten: %w", w.m.There(), err)
	}
	w.state.Receipt.Defined = false
	return nil
}

// compare looks at what the host has made of the definition.
func (w *work) compare(ctx context.Context) error {
	m, err := w.there(ctx)
	if err != nil {
		return err
	}
	is, err := machine.Describe(m.Format, m.Definition)
	if err != nil {
		return fmt.Errorf("reading what is there of %s: %w", w.m.There(), err)
	}
	is.WithHost = is.WithHost || m.WithHost
	w.state.Receipt.Unasked, w.state.Receipt.Is = machine.Unasked(w.after(), is), &is
	w.state.Concluded = true
	if len(w.m.Live) > 0 && m.State == host.Running {
		w.state.Receipt.CameUp = true
		w.evidence("it runs")
	}
	if w.m.Away() && !w.state.Without {
		return w.handedOver(ctx)
	}
	return nil
}

// withdraw takes the source from the list of its host. Its disks stay.
func (w *work) withdraw(ctx context.Context) error {
	if w.state.Without {
		w.state.Concluded = true
		w.state.Receipt.Source = fmt.Sprintf(
			"%s was not to be reached, and still has it: take it from its list before it is started there",
			w.m.Host,
		)
		return step.ErrEnough
	}
	m, err := w.Ends.From.Machine(ctx, w.m.Name)
	if errors.Is(err, host.ErrNoMachine) { // an earlier time did it
		w.withdrawn()
		return w.dropCovers()
	}
	if err != nil {
		return err
	}
	if err := w.isOff(ctx); err != nil {
		return err
	}
	if len(w.m.Live) == 0 || w.m.First { // otherwise it was changed by the job
		if err := w.changed(m); err != nil {
			return err
		}
	}
	if err := w.Ends.From.Forget(ctx, m); err != nil {
		return fmt.Errorf("taking %s from the list of %s: %w", w.m.Name, w.m.Host, err)
	}
	if err := w.dropCovers(); err != nil {
		return err
	}
	w.withdrawn()
	return nil
}

func (w *work) withdrawn() {
	w.state.Concluded = w.state.Concluded || w.m.Removes
	w.state.Receipt.Source = fmt.Sprintf("%s does not know it any more; its disks are as they were", w.m.Host)
	if w.Plan.Request.Release || w.m.Removes {
		w.state.Receipt.Source = fmt.Sprintf("%s does not know it any more; its disks are held", w.m.Host)
	}
}

// enlist puts the source on the list of its host again.
func (w *work) enlist(ctx context.Context) error {
	made, err := w.Ends.From.Define(ctx, []byte(w.m.Stored))
	if err != nil {
		return fmt.Errorf("making %s known to %s again: %w", w.m.Name, w.m.Host, err)
	}
	for _, k := range w.m.Had {
		if err := w.Ends.From.Adopt(ctx, made, k); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			return fmt.Errorf("telling %s of the snapshot %s again: %w", w.m.Host, k.Name, err)
		}
	}
	is, err := machine.Describe(made.Format, made.Definition)
	if err != nil {
		return fmt.Errorf("reading what %s has of the machine: %w", w.m.Host, err)
	}
	if err := w.wake(ctx, w.Ends.From, made, w.m.Before); err != nil {
		return err
	}
	is.WithHost = w.m.Before.WithHost
	w.state.Receipt.Unasked, w.state.Receipt.Is = machine.Unasked(w.m.Before, is), &is
	w.state.Receipt.Source = fmt.Sprintf("%s knows it again", w.m.Host)
	return nil
}

// conclude says what all that proves.
func (w *work) conclude() {
	m := w.state.Receipt
	w.proof.Outcome = receipt.Proven
	w.proof.Compared = fmt.Sprintf("the definition of %s, with the planned one", w.m.There())
	if plan.IsStaying(w.Plan.Request.Kind) || w.m.Given != nil {
		w.proof.Compared = fmt.Sprintf("what %s says of the machine, with what was to become of it", w.m.To)
	}
	if w.m.Undoes != nil {
		w.proof.Compared = fmt.Sprintf("the definition that %s has, with the one that it had", w.m.Host)
	}
	switch at := w.state.Frozen.Format(time.RFC3339); {
	case w.state.Without:
		w.proof.Compared += fmt.Sprintf(
			"; its disks as they stood still at %s, with the new ones, and each MiB that was written to until %s, with what its old host had: what was written after that is not in them",
			at,
			w.state.as().Format(time.RFC3339),
		)
	case w.m.Away():
		w.proof.Compared += fmt.Sprintf(
			"; its disks as they stood still at %s, with the new ones, and each MiB that was written to since, with what its old host had",
			at,
		)
	case len(w.m.Live) > 0:
		w.proof.Compared += fmt.Sprintf(
			"; its disks as they stood still at %s, with the new ones: what was written since its host has carried over, and it was not read",
			at,
		)
	}
	switch {
	case len(w.m.Live) > 0 && !m.CameUp:
		w.proof.Outcome, w.proof.Reason = receipt.Unproven, "the machine does not run any more"
	case w.Plan.Packed != nil:
		w.proof.Compared = fmt.Sprintf("the definition of %s, with the planned one", w.m.Here())
	case w.m.Removes && w.m.Undoes == nil:
		w.proof.Compared = fmt.Sprintf("the list of machines of %s: it is not on it any more", w.m.Host)
	case w.m.Kept != nil:
		w.proof.Outcome, w.proof.Reason = receipt.Unproven, "its host keeps and brings back states by itself: what is in them was not read"
	case len(m.Unasked) > 0:
		w.proof.Outcome = receipt.Unproven
		w.proof.Reason = fmt.Sprintf("%s is otherwise than asked: %s", w.m.There(), m.Unasked[0].What)
	case m.Started && !m.CameUp:
		w.proof.Outcome, w.proof.Reason = receipt.Unproven, "the machine was started, and not seen to come up"
	}
}
