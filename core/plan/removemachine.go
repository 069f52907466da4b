package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// RemoveMachine has a machine go: its host forgets it, and its disks go into the holding folder with its definition.
const RemoveMachine = "remove-machine"

// RemoveMachineRequest has a machine go with its disks, but for those that are left.
type RemoveMachineRequest struct {
	Kind           string                `json:"kind"`
	Machine        string                `json:"machine"`
	Stop           bool                  `json:"stop"`
	Disks          map[string]DiskChoice `json:"disks"`
	WithoutKnowing bool                  `json:"without_knowing"`
}

func (r RemoveMachineRequest) validate() error {
	for slot, c := range r.Disks {
		if (c != DiskChoice{Leave: true}) {
			return fmt.Errorf("the disk %s goes, or is left: nothing else is to be said of it", slot)
		}
	}
	return errors.Join(ofHost(r.Machine))
}

// OfRemoval is the request by which a disk of a machine goes that is removed.
func (r Request) OfRemoval(at Place) Request {
	return Request{Kind: Remove, Source: at, WithoutKnowing: r.WithoutKnowing}
}

// ForRemoval makes the plan to have a machine go from the plans of its disks, which are in their order, and behind them that of the variables of its
// firmware. The plan of what stays is empty.
func ForRemoval(r Request, f MachineFacts, parts []Plan) Plan {
	on, _, _ := HostAndName(r.Machine) // it is a valid request
	w := whole{Plan: Together(r, parts...), r: r, f: f, m: &Machine{
		Host: on, Name: f.Name, To: on, Move: true, Removes: true, Before: f.Is, After: f.Is, Format: f.Format, Stored: string(f.Text),
		Extension: extension(f.Format), Stop: r.Stop,
	}}
	w.Machine = w.m
	if f.Problem != nil {
		w.check(Blocks, "machine", fmt.Sprintf("The definition of %s cannot be read: %v.", w.m.Here(), f.Problem))
		return w.Plan
	}
	w.removedOff()
	w.checkChoices()
	for i, d := range f.Is.Disks {
		name := DiskName(f.Is, i)
		switch {
		case w.choice(i).Leave:
			w.check(Informs, "disk", fmt.Sprintf("The disk %s stays where it is: %s.", name, d.Lies()))
		case f.Disks[i].Path == "":
			w.check(Blocks, "pool", fmt.Sprintf("The disk %s (%s) lies outside of all pools: there is no holding folder for it.", name, d.Lies()),
				w.leave(name))
		case i < len(parts) && parts[i].Blocked():
			w.check(Informs, "disk", fmt.Sprintf("The disk %s cannot go, but the machine can without it.", name), w.leave(name))
		}
	}
	w.forgets()
	disks := w.Steps
	w.Steps = nil
	off := "See that " + f.Name + " is off"
	if r.Stop {
		off = "Shut " + f.Name + " down, unless it is off"
	}
	w.step(on, StepOff, off)
	w.step(on, StepWithdraw, fmt.Sprintf("Take it from the list of %s", on))
	for _, s := range disks {
		w.follow(s)
	}
	return w.Plan
}

// forgets says what becomes of the states that its host keeps of it.
func (w *whole) forgets() {
	names := []string{}
	for _, k := range w.f.Kept {
		names = append(names, storage.Printable(k.Name))
	}
	switch {
	case len(names) == 0:
	case w.f.Adopts && withImages(w.f.Kept):
		w.m.Had = w.f.Kept
		w.check(Informs, "snapshot", fmt.Sprintf("Its snapshots go with it inside of its images, and come back with it: %s.", some(names)))
	default:
		w.check(Warns, "snapshot", fmt.Sprintf("%s forgets its snapshots, also when it comes back: %s.", w.m.Host, some(names)))
	}
}

// removedOff: a machine that runs is removed by nobody without shutting it down.
func (w *whole) removedOff() {
	here := w.m.Here()
	switch {
	case w.f.Off:
		w.check(Informs, "off", fmt.Sprintf("%s is off. That is looked at again before it goes.", here))
	case w.f.Saved:
		w.check(Blocks, "off", fmt.Sprintf("%s is saved, with its memory: start it, and shut it down.", here))
	case !w.r.Stop:
		w.check(Blocks, "off", fmt.Sprintf("%s is %s.", here, w.f.State), remedy("Shut it down first", map[string]any{"stop": true}))
	default:
		w.check(Warns, "off", fmt.Sprintf("%s is %s, and is shut down before it goes.", here, w.f.State))
		w.Checks = slices.DeleteFunc(w.Checks, func(c Check) bool { return c.Name == "in-use" }) // the job looks when it is off
	}
}

// TakeMachineIn puts the step by which a machine is known again that was removed behind the plan that gives its disks their names again.
func TakeMachineIn(p Plan, u MachineUndo) Plan {
	m := u.Machine
	m.Undoes = &u.Undone
	w := whole{Plan: p, m: &m}
	w.Machine = &m
	for _, other := range u.Has {
		if other.Name == m.Name || strings.EqualFold(other.UUID, m.Before.UUID) {
			w.check(
				Blocks,
				"name",
				fmt.Sprintf("%s has come to know another machine of the name or identity of %s: %s.", m.Host, m.Name, other.Name),
			)
		}
	}
	w.back(m.Host, StepWithdraw, fmt.Sprintf("Make it known to %s again", m.Host))
	return w.Plan
}
