package plan

import (
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/machine"
)

// checkThere: nobody at the destination has its name or identity.
func (w *whole) checkThere() {
	after := w.m.After
	if w.m.Alone() && !w.m.Move {
		w.check(
			Warns,
			"identity",
			fmt.Sprintf("The copy keeps the identity of %s: never are both to run. Where it is shut down for that, it stays off.", w.m.Here()),
		)
	}
	if w.m.Alone() && w.r.Suspend && w.r.Start && !w.f.Off {
		w.check(
			Blocks,
			"identity",
			fmt.Sprintf("%s goes on, and the copy would have its identity: both must not run.", w.m.Here()),
			remedy("Give the copy a new identity", map[string]any{"identity": NewIdentity}),
			remedy("Do not start the copy", map[string]any{"start": nil}),
		)
	}
	w.checkElsewhere()
	for _, other := range w.f.There {
		if w.m.Into != nil {
			w.check(Blocks, "name", fmt.Sprintf("%s is there already, and nothing is overwritten.", w.m.Into),
				remedy("Call it "+w.free(after.Name), map[string]any{"name": w.free(after.Name)}))
			continue
		}
		if w.m.Stays() && other.UUID == after.UUID {
			continue
		}
		if other.Name == after.Name {
			w.check(Blocks, "name", fmt.Sprintf("%s has a machine of the name %s already.", w.r.To, after.Name),
				remedy("Call it "+w.free(after.Name), map[string]any{"name": w.free(after.Name)}))
		}
		if other.UUID != "" && strings.EqualFold(other.UUID, after.UUID) {
			w.check(
				Blocks,
				"identity",
				fmt.Sprintf("%s has a machine with the UUID %s already: %s. Forget it there first, or copy instead of moving.",
					w.r.To, after.UUID, other.Name),
			)
		}
		for _, card := range other.Networks {
			if card.MAC != "" && slices.ContainsFunc(after.Networks, func(n machine.Network) bool { return strings.EqualFold(n.MAC, card.MAC) }) {
				w.check(Warns, "identity", fmt.Sprintf("%s on %s has the network address %s too.", other.Name, w.r.To, card.MAC))
			}
		}
	}
}

// checkElsewhere: a third machine of the same identity, on another host that is known, never runs together with this one.
func (w *whole) checkElsewhere() {
	if len(w.f.Away) > 0 && !w.newIdentity() && w.r.To != "" {
		w.check(
			Informs,
			"identity",
			fmt.Sprintf("Whether a machine of the same identity is on %s is not known: it could not be asked.", strings.Join(w.f.Away, ", ")),
		)
	}
	for _, other := range w.f.Elsewhere {
		if other.UUID == "" || !strings.EqualFold(other.UUID, w.m.After.UUID) || w.r.To == "" {
			continue
		}
		severity, what := Warns, "is off"
		if !other.Off {
			what = "is not off"
			if w.r.Start {
				severity = Blocks
			}
		}
		w.check(severity, "identity", fmt.Sprintf("%s has the identity %s too, and %s: never are both to run.", other.Where, other.UUID, what),
			remedy("Give this one a new identity", map[string]any{"identity": NewIdentity}))
	}
}

// free is a name that no machine there has.
func (w *whole) free(name string) string {
	for n := 2; ; n++ {
		other := fmt.Sprintf("%s-%d", name, n)
		if !slices.ContainsFunc(w.f.There, func(m machine.Machine) bool { return m.Name == other }) {
			return other
		}
	}
}

// write makes the text of the new definition, and says what it cannot say.
func (w *whole) write() {
	want := w.m.After
	if said, err := machine.Describe(w.f.Format, w.f.Text); err == nil && w.f.Format == w.f.ToFormat {
		want.WithHost = said.WithHost // which many leave to the host
	}
	text, err := machine.Without(w.f.Format, w.f.Text, w.left())
	if err == nil {
		text, err = machine.Become(text, w.f.Format, w.f.ToFormat, want)
	}
	var after machine.Machine
	if err == nil {
		after, err = machine.Describe(w.f.ToFormat, text)
	}
	if err != nil {
		w.check(Blocks, "definition", fmt.Sprintf("The definition for %s cannot be written: %v.", w.m.There(), err))
		return
	}
	w.m.Definition = string(text)
	if w.m.Away() && !w.startsFromTops(want) {
		return
	}
	after.WithHost = after.WithHost || w.m.After.WithHost && w.f.Wakes
	for _, d := range machine.Unasked(w.m.After, after) {
		w.check(Warns, "definition", lostOrChanged(d))
	}
	w.m.After, w.m.Differences = after, machine.Compare(w.f.Is, after)
	if w.f.Format != w.f.ToFormat {
		w.check(Informs, "definition", fmt.Sprintf("Its definition is written anew in the format %s: what only %s says is not carried.",
			w.f.ToFormat, w.f.Format))
	}
}

// startsFromTops makes the definition by which a machine is started in its new place that moves while it runs: from what stands on its new disks.
func (w *whole) startsFromTops(want machine.Machine) bool {
	want.Disks = slices.Clone(want.Disks)
	for i, d := range want.Disks {
		for _, l := range w.m.Live {
			if d.File == l.NowFile {
				want.Disks[i].File, want.Disks[i].Format = l.TopAt, "qcow2"
			}
		}
	}
	text, err := machine.Become(w.f.Text, w.f.Format, w.f.ToFormat, want)
	if err != nil {
		w.check(Blocks, "definition", fmt.Sprintf("The definition for %s cannot be written: %v.", w.m.There(), err))
		return false
	}
	w.m.Definition = string(text)
	return true
}

// left are the disks that the machine will not have, by their places in the order.
func (w *whole) left() (all []int) {
	for i := range w.f.Is.Disks {
		if w.choice(i).Leave && !w.m.Stays() {
			all = append(all, i)
		}
	}
	return all
}

func lostOrChanged(d machine.Difference) string {
	if d.After == "" {
		return fmt.Sprintf("Lost, since the new host's definitions cannot say it: %s (%s).", d.What, d.Before)
	}
	return fmt.Sprintf("Changed, since the new host's definitions cannot say it: %s, from %s to %s.", d.What, d.Before, d.After)
}

// steps puts those of the machine around those of its disks.
func (w *whole) steps() {
	disks := w.Steps
	w.Steps = nil
	name, from := w.m.Name, w.m.Host
	off := "See that " + name + " is off"
	if w.r.Stop {
		off = "Shut " + name + " down, unless it is off"
	}
	if w.r.Suspend {
		off = "Suspend " + name + ", unless it is off"
	}
	if w.f.Package != nil && w.f.Package.Manifest {
		w.step(from, StepManifest, "Compare each file of the package with its manifest")
	}
	switch {
	case w.live:
		w.step(from, StepCover, "Have the guest write to new images on its disks, which stand still from then on")
	case w.m.From == nil && !w.apart():
		w.step(from, StepOff, off)
	}
	if w.m.First {
		w.step(w.m.To, StepLend, fmt.Sprintf("Serve its disks to %s, and make it known there with images of its own over them", w.m.To))
		w.step(w.m.To, StepStart, "Start it there")
		w.step(w.m.To, StepWatch, "See it come up")
	}
	released := slices.IndexFunc(disks, func(s Step) bool { return s.Kind == StepRelease })
	if released < 0 {
		released = len(disks)
	}
	for i, s := range disks[:released] {
		named := slices.ContainsFunc(disks[:i], func(s Step) bool { return s.Kind == StepPublish })
		if w.r.Suspend && s.Kind == StepPublish && !named {
			w.step(from, StepHalted, "See that it was suspended all the while")
		}
		w.follow(s)
	}
	if w.m.First {
		w.goFirstSteps(disks[released:])
		return
	}
	w.sources(StepStill)
	if w.m.Rests != "" {
		w.step(from, StepRest, fmt.Sprintf("Have %s go on from images that stand on its disks, which rest from then on", name))
	}
	switch {
	case w.r.Suspend:
		w.step(from, StepOn, "Let "+name+" go on, if it ran")
	case w.r.Stop && !w.m.Alone():
		w.step(from, StepOn, "Start "+name+" again, if it ran")
	}
	switch {
	case w.live && w.m.Host != w.m.To:
		w.goAwaySteps(disks[released:])
		return
	case w.live:
		w.goOverSteps(disks[released:])
		return
	}
	define := fmt.Sprintf("Make it known to %s as %s", w.m.To, w.m.After.Name)
	if w.m.Into != nil {
		define = fmt.Sprintf("Put its definition beside the disks, as %s", w.m.Into.Path)
	}
	if w.m.Stays() {
		define = "Change its definition"
	}
	w.step(w.m.To, StepDefine, define)
	if w.m.Tell != "" {
		computer, _ := DevicesHost(w.r.Source.Pool)
		w.step(computer, StepLeave, fmt.Sprintf("Tell the program %s on the computer of the disk that a machine takes its place", w.m.Tell))
	}
	if w.r.Start {
		w.step(w.m.To, StepStart, "Start it there")
		w.step(w.m.To, StepWatch, "See it come up")
	}
	w.step(w.m.To, StepCompare, "Compare what is there with what was to become of it")
	w.Steps[len(w.Steps)-1].Forward = w.r.Start // a guest writes to the new disks
	if w.m.Move && !w.m.Stays() && !w.r.LeaveSource && w.m.From == nil {
		w.sources(StepPart)
		w.step(from, StepWithdraw, fmt.Sprintf("Take it from the list of %s, so that it cannot be started there too", from))
		w.Steps[len(w.Steps)-1].Forward = true
	}
	for _, s := range disks[released:] {
		w.follow(s)
	}
}

// sources has each disk looked at that is left, where the machine moves: what a copy does not have that was written later is no loss.
func (w *whole) sources(kind string) {
	if !w.m.Move {
		return
	}
	for _, d := range w.Bodies {
		s := Step{ID: d.ID + "." + kind, Kind: kind, Title: "See that nothing was written to its old disk since it was read", Host: w.m.Host}
		if d.Before != nil {
			s.Uses = []Use{{Pool: d.Request.Source.Pool, Path: d.Before.Place.Path}}
		}
		w.follow(s)
	}
}

func (w *whole) step(host, kind, title string) {
	w.follow(Step{ID: MachineSubject + "." + kind, Kind: kind, Title: title, Host: host, Machines: []string{w.m.Here()}})
}
