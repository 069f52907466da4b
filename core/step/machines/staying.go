package machines

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
)

// here is the machine that stays, whose definition is the one that was planned with, and the states that its host keeps of it.
func (w *work) here(ctx context.Context) (m host.Machine, kept []host.Snapshot, err error) {
	if m, err = w.source(ctx); err != nil {
		return m, nil, err
	}
	if is, err := describe(m); err == nil {
		w.state.Receipt.Is = &is
	}
	kept, err = w.Ends.From.Snapshots(ctx, m)
	return m, kept, err
}

func find(all []host.Snapshot, name string) (host.Snapshot, bool) {
	i := slices.IndexFunc(all, func(s host.Snapshot) bool { return s.Name == name })
	if i < 0 {
		return host.Snapshot{}, false
	}
	return all[i], true
}

// takenAs is the name of the state that is kept by the job, with its notes.
func (w *work) takenAs() (name, notes string) {
	if w.m.Kept.Present != "" {
		return w.m.Kept.Present, fmt.Sprintf("what it was before it went back to %s", w.m.Kept.Name)
	}
	return w.m.Kept.Name, w.m.Kept.Notes
}

// take has the host keep the present state. Where the step had begun before, one of the name is that.
func (w *work) take(ctx context.Context) error {
	m, kept, err := w.here(ctx)
	if err != nil {
		return err
	}
	name, notes := w.takenAs()
	if _, there := find(kept, name); there && w.state.Known == name {
		return w.taken(ctx, name)
	} else if there {
		return blocked("name", fmt.Sprintf("%s has come to have a snapshot %s: plan it again.", w.m.Here(), name))
	}
	if err := w.changed(m); err != nil {
		return err
	}
	w.state.Known = name
	if err := w.Keep(ctx); err != nil {
		return err
	}
	taking := host.Taking{Name: name, Notes: notes, Disks: w.m.Kept.Disks, AtRest: w.m.Kept.AtRest}
	if err := w.Ends.From.Take(ctx, m, taking); err != nil {
		return fmt.Errorf("having %s keep %s: %w", w.m.Host, name, err)
	}
	return w.taken(ctx, name)
}

// taken sees that the host has it.
func (w *work) taken(ctx context.Context, name string) error {
	_, kept, err := w.here(ctx)
	if err != nil {
		return err
	}
	s, there := find(kept, name)
	if !there {
		return fmt.Errorf("%s does not list the snapshot %s that it was to keep", w.m.Host, name)
	}
	with := "without memory"
	if w.m.Kept.AtRest {
		with += ", and its filesystems were at rest"
	}
	if s.Memory {
		with = "with its memory"
	}
	w.evidence("%s lists the snapshot %s, %s", w.m.Host, name, with)
	w.isDone(plan.StepTake)
	return nil
}

// isDone says that the receipt says all, where that was the last step.
func (w *work) isDone(kind string) {
	w.state.Concluded = w.Plan.Steps[len(w.Plan.Steps)-1].Kind == kind
}

// dropTaken has the host forget the state that the job had it keep.
func (w *work) dropTaken(ctx context.Context) error {
	m, kept, err := w.here(ctx)
	if err != nil {
		return err
	}
	if _, there := find(kept, w.state.Known); !there || w.state.Known == "" {
		return nil
	}
	return w.Ends.From.Drop(ctx, m, w.state.Known)
}

// goBack makes a kept state the present one.
func (w *work) goBack(ctx context.Context) error { return w.goTo(ctx, w.m.Kept.Name) }

// goForth makes the state the present one again that was before.
func (w *work) goForth(ctx context.Context) error {
	if w.m.Kept.Present == "" {
		return nil
	}
	return w.goTo(ctx, w.m.Kept.Present)
}

func (w *work) goTo(ctx context.Context, name string) error {
	m, kept, err := w.here(ctx)
	if err != nil {
		return err
	}
	s, there := find(kept, name)
	if !there {
		return blocked("snapshot", fmt.Sprintf("%s has no snapshot %s any more.", w.m.Here(), name))
	}
	if w.m.Kept.Present == "" || !s.Present { // otherwise an earlier time did it: the other one was the present one before
		if err := w.Ends.From.GoBack(ctx, m, name); err != nil {
			return fmt.Errorf("going back to %s: %w", name, err)
		}
	}
	if _, kept, err = w.here(ctx); err != nil {
		return err
	}
	if s, there := find(kept, name); !there || !s.Present {
		return fmt.Errorf("%s does not say that %s goes on from %s", w.m.Host, w.m.Name, name)
	}
	w.evidence("%s says that it goes on from %s", w.m.Host, name)
	w.isDone(plan.StepGoBack)
	return nil
}

// drop has the host forget a state, unless an earlier time did.
func (w *work) drop(ctx context.Context) error {
	name := w.m.Kept.Name
	m, kept, err := w.here(ctx)
	if err != nil {
		return err
	}
	if _, there := find(kept, name); there {
		forget := w.Ends.From.Drop
		if w.m.Kept.ListOnly {
			forget = w.Ends.From.Disown
		}
		if err := forget(ctx, m, name); err != nil {
			return fmt.Errorf("having %s forget %s: %w", w.m.Host, name, err)
		}
		if _, kept, err = w.here(ctx); err != nil {
			return err
		}
	}
	if _, there := find(kept, name); there {
		return fmt.Errorf("%s still lists the snapshot %s that it was to forget", w.m.Host, name)
	}
	w.evidence("%s does not list %s any more", w.m.Host, name)
	w.isDone(plan.StepDrop)
	return nil
}

// describe is the machine as a host has it now.
func describe(m host.Machine) (machine.Machine, error) {
	is, err := machine.Describe(m.Format, m.Definition)
	if err != nil {
		err = fmt.Errorf("reading what is there of %s: %w", m.Name, err)
	}
	return is, err
}

// slotOf is the slot by which a machine has a disk, empty where it has none of that file.
func slotOf(is machine.Machine, d machine.Disk) string {
	i := slices.IndexFunc(is.Disks, func(o machine.Disk) bool { return o.Lies() == d.Lies() })
	if i < 0 {
		return ""
	}
	return is.Disks[i].Slot
}

// attach gives the machine that gets it the disk.
func (w *work) attach(ctx context.Context) error {
	m, err := w.Ends.To.Machine(ctx, w.m.After.Name)
	if err != nil {
		return err
	}
	is, err := w.give(ctx, w.Ends.To, m, w.m.There(), w.given())
	if err != nil {
		return err
	}
	w.isDone(plan.StepAttach)
	w.state.Concluded = w.state.Concluded || w.m.Given != nil
	w.state.Receipt.Unasked, w.state.Receipt.Is = unaskedBut(w.m.After, is), &is
	return nil
}

// given is the disk as the machine has it that gets it.
func (w *work) given() machine.Disk {
	if w.m.Given != nil {
		return *w.m.Given
	}
	return *w.m.Disk
}

// attachTaken gives the disk back to the one that it was taken from.
func (w *work) attachTaken(ctx context.Context) error {
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	_, err = w.give(ctx, w.Ends.From, m, w.m.Here(), *w.m.Disk)
	return err
}

// give gives a machine the disk, unless it has it, and returns what it is then.
func (w *work) give(ctx context.Context, on step.Guests, m host.Machine, name string, d machine.Disk) (machine.Machine, error) {
	is, err := describe(m)
	if err != nil {
		return is, err
	}
	if slotOf(is, d) == "" {
		d.Slot = ""
		if err := isNobodys(ctx, on, d); err != nil {
			return is, err
		}
		if err := on.Look(ctx); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			return is, fmt.Errorf("having its host look for the disk: %w", err)
		}
		if err := on.Attach(ctx, m, d); err != nil {
			return is, fmt.Errorf("giving %s the disk: %w", name, err)
		}
		if m, err = on.Machine(ctx, m.Name); err != nil {
			return is, err
		}
		if is, err = describe(m); err != nil {
			return is, err
		}
	}
	slot := slotOf(is, d)
	if slot == "" {
		return is, fmt.Errorf("%s has no disk %s, which it was given", name, d.Lies())
	}
	w.evidence("%s has the disk as %s", name, slot)
	return is, nil
}

// isNobodys fails where a machine of the host has a disk by now.
func isNobodys(ctx context.Context, on step.Guests, d machine.Disk) error {
	all, err := on.Machines(ctx)
	if err != nil {
		return err
	}
	for _, other := range all {
		if is, err := machine.Describe(other.Format, other.Definition); err == nil && slotOf(is, d) != "" {
			return blocked("machine", fmt.Sprintf("%s has come to have the disk %s: two machines on one disk destroy it.", other.Name, d.Lies()))
		}
	}
	return nil
}

// unaskedBut is in what a machine differs from what it was to be, but for the slot of its last disk, which its host chooses.
func unaskedBut(wanted, is machine.Machine) []machine.Difference {
	if n := len(wanted.Disks); n > 0 {
		wanted.Disks = slices.Clone(wanted.Disks)
		wanted.Disks[n-1].Slot = ""
	}
	return machine.Unasked(wanted, is)
}

// detach takes the disk from the machine.
func (w *work) detach(ctx context.Context) error {
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	return w.takeFrom(ctx, w.Ends.From, m, w.m.Here(), *w.m.Disk)
}

// detachGiven takes it from the one that had got it.
func (w *work) detachGiven(ctx context.Context) error {
	m, err := w.Ends.To.Machine(ctx, w.m.After.Name)
	if err != nil {
		return err
	}
	return w.takeFrom(ctx, w.Ends.To, m, w.m.There(), w.given())
}

// takeFrom takes the disk from a machine, unless it does not have it.
func (w *work) takeFrom(ctx context.Context, on step.Guests, m host.Machine, name string, d machine.Disk) error {
	is, err := describe(m)
	if err != nil {
		return err
	}
	if slot := slotOf(is, d); slot != "" {
		if err := on.Detach(ctx, m, slot); err != nil {
			return fmt.Errorf("taking the disk %s from %s: %w", slot, name, err)
		}
		if m, err = on.Machine(ctx, m.Name); err != nil {
			return err
		}
		if is, err = describe(m); err != nil {
			return err
		}
	}
	if slot := slotOf(is, d); slot != "" {
		return fmt.Errorf("%s still has the disk %s, which was to be taken from it", name, slot)
	}
	stays := ""
	w.state.Receipt.Is = &is
	if w.m.Given == nil {
		stays = ", whose files stay where they are"
	}
	w.evidence("%s does not have the disk any more%s: %s", name, stays, d.Lies())
	w.isDone(plan.StepDetach)
	return nil
}
