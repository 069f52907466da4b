package plan

import (
	"fmt"
	"strings"

	"bagaglio/core/machine"
)

// MachineUndo is what is known of a machine whose move or copy is taken back.
type MachineUndo struct {
	Undone
	Machine Machine
	// State is what it does in its new place, in words; empty where its host does not know it any more. Off tells whether that is off.
	State string
	Off   bool
	// Withdrawn tells that its old host does not know it any more, and Has are the machines that this host knows.
	Withdrawn bool
	Has       []machine.Machine
	Missing   []string // old disks that are not in their place any more, and are not held either
}

// TakeMachineBack puts the steps of a machine around the plan that takes its disks back. The machine in its new place has to be off: what its
// guest wrote there since is in the new disks only.
func TakeMachineBack(p Plan, u MachineUndo) Plan {
	m := u.Machine
	m.Undoes = &u.Undone
	w := whole{Plan: p, m: &m}
	w.Machine = &m
	switch there := m.There(); {
	case u.State == "":
		w.check(Warns, "machine", fmt.Sprintf("%s is not there any more.", there))
	case !u.Off:
		w.check(Blocks, "off", fmt.Sprintf(
			"%s is %s: shut it down first (bagaglio machine stop %s). What its guest wrote since the job ended is not in its old disks.",
			there,
			u.State,
			there,
		))
	default:
		w.check(Warns, "machine", fmt.Sprintf("What the guest of %s wrote since the job ended is not in its old disks.", there))
	}
	if len(m.GoesOn) > 0 {
		w.check(
			Informs,
			"base",
			fmt.Sprintf("%s keeps the images that it goes on from, which stand on its old disks: what it wrote since is in those.", m.Here()),
		)
	}
	if len(u.Missing) > 0 {
		w.check(Blocks, "undo", fmt.Sprintf("%s is not in its place any more: the machine would not start from it.", some(u.Missing)))
	}
	for _, other := range u.Has {
		if u.Withdrawn && (other.Name == m.Name || strings.EqualFold(other.UUID, m.Before.UUID)) {
			w.check(
				Blocks,
				"name",
				fmt.Sprintf("%s has come to know another machine of the name or identity of %s: %s.", m.Host, m.Name, other.Name),
			)
		}
	}
	disks := w.Steps
	w.Steps = nil
	w.back(m.To, StepDefine, fmt.Sprintf("Have %s forget it", m.To))
	for _, s := range disks {
		w.follow(s)
	}
	if m.Tell != "" {
		computer, _ := DevicesHost(m.From.Pool)
		w.back(
			computer,
			StepLeave,
			fmt.Sprintf("Tell the program %s on the computer of the disk that no machine takes its place any more", m.Tell),
		)
	}
	if u.Withdrawn {
		w.back(m.Host, StepWithdraw, fmt.Sprintf("Make it known to %s again", m.Host))
	}
	return w.Plan
}

func (w *whole) back(host, kind, title string) {
	w.step(host, kind, title)
	s := &w.Steps[len(w.Steps)-1]
	s.ID, s.Back = s.ID+".back", true
}
