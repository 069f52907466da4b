package machines

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

const (
	// settles is for how long a guest has to run before anything it shows counts: a loader that fails shows something too.
	settles = 3 * time.Second
	// readsAtLeast is what a guest reads of its disks, in bytes, that is beyond its loader. A firmware that finds none reads some sectors.
	readsAtLeast = 8 << 20
	// writesAtLeast is likewise what a guest writes: firmware writes nothing there, and a loader not more than a note of what it started.
	writesAtLeast = 256 << 10
)

// errNotUp is why a job does not go on behind a machine that was started.
var errNotUp = errors.New("the machine was not seen to come up")

// start switches the machine on in its new place, while the other is off.
func (w *work) start(ctx context.Context) error {
	if !w.m.Stays() {
		if err := w.isOff(ctx); err != nil {
			return err
		}
	}
	m, err := w.there(ctx)
	if err != nil {
		return err
	}
	w.state.Halted = m.State != host.Off // an earlier time started it
	if w.state.Saved && m.State == host.Off {
		err = w.startFromMemory(ctx, m)
	} else {
		err = w.Ends.To.Start(ctx, m)
	}
	if err != nil {
		return fmt.Errorf("starting %s on %s: %w", w.m.After.Name, w.m.To, err)
	}
	if err := w.tellMemory(); err != nil {
		return err
	}
	w.state.Receipt.Started = true
	if !w.state.Stopping.IsZero() {
		w.stood(time.Since(w.state.Stopping))
		w.state.Stopping = time.Time{}
	}
	w.hear(ctx, m)
	return w.questions(ctx, m)
}

// questions answers what the host asks before the machine goes on: whether it was moved or copied is known, anything else a person has to say.
func (w *work) questions(ctx context.Context, m host.Machine) error {
	all, err := w.Ends.To.Questions(ctx, m)
	if errors.Is(err, errors.ErrUnsupported) {
		return nil
	}
	given := w.answered(plan.StepStart)
	if given == answerBack {
		return errNotUp
	}
	for _, q := range all {
		answer := given
		switch {
		case q.ID == host.Identity && w.m.Alone():
			answer = host.Moved
		case q.ID == host.Identity:
			answer = host.Copied
		case !slices.Contains(q.Answers, answer):
			choices := []step.Choice{{Name: answerBack, Label: "Go back: switch it off there, and start it where it was if it ran"}}
			for _, a := range q.Answers {
				choices = append(choices, step.Choice{Name: a, Label: "Answer: " + a})
			}
			return w.ask(
				plan.StepStart,
				fmt.Sprintf("%s asks about %s: %s", w.m.To, w.m.After.Name, storage.Printable(q.Text)),
				errNotUp,
				choices...)
		}
		if err := w.Ends.To.Answer(ctx, m, q.ID, answer); err != nil {
			return fmt.Errorf("answering %s, which asked about %s: %w", w.m.To, w.m.After.Name, err)
		}
		w.evidence("%s asked %q, and was answered %q", w.m.To, storage.Printable(q.Text), answer)
	}
	return err
}

// cutOff takes the power from the machine in its new place: nothing that it wrote is to stay.
func (w *work) cutOff(ctx context.Context) error {
	m, err := w.there(ctx)
	if errors.Is(err, host.ErrNoMachine) {
		return nil
	}
	if err == nil {
		err = w.Ends.To.CutOff(ctx, m)
	}
	if err != nil {
		return fmt.Errorf("switching %s on %s off again: %w", w.m.After.Name, w.m.To, err)
	}
	w.state.Receipt.Started, w.state.Receipt.CameUp = false, false
	return nil
}

// cameUp notes that it came up, also for whoever takes that back.
func (w *work) cameUp() { w.state.Receipt.CameUp, w.state.CameUp = true, true }

// watch sees the machine come up, or asks a person.
func (w *work) watch(ctx context.Context) error {
	switch answer := w.answered(plan.StepWatch); answer {
	case answerFirmware, answerBus:
		if err := w.tryOtherwise(ctx, answer); err != nil {
			return err
		}
	case answerBack:
		return errNotUp
	case answerUp:
		w.evidence("a person looked, and said that it is up")
		w.cameUp()
		return w.picture(ctx)
	case answerKeep:
		return w.keepBoth(ctx)
	}
	w.state.Halted = w.state.Halted || w.state.Watched // the service ended meanwhile, and what it served with it
	w.state.Watched = true
	if err := w.Keep(ctx); err != nil {
		return err
	}
	m, err := w.there(ctx)
	if err != nil {
		return err
	}
	w.hear(ctx, m)
	defer w.deafen()
	why := "it shows no sign of a guest"
	within := max(time.Duration(w.m.Within)*time.Second, settles+2*lookEvery) // it is looked at once, whatever was asked for
	for begun := time.Now(); time.Since(begun) < within; {
		m, err := w.there(ctx)
		if err != nil {
			return err
		}
		if m.State != host.Running && (!w.m.First || !m.Halted) {
			why = fmt.Sprintf("it is %s", m.State)
			break
		}
		w.state.Halted = w.state.Halted || m.Halted
		if !w.m.Stays() {
			if err := w.isOff(ctx); err != nil {
				return err
			}
		}
		if err := w.picture(ctx); err != nil {
			return err
		}
		if ran := time.Since(begun); ran >= settles && m.State == host.Running {
			up, err := w.looksUp(ctx, m)
			if err != nil {
				return err
			}
			if up {
				w.evidence("it has run for %s", ran.Round(time.Second))
				w.cameUp()
				return nil
			}
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
	if w.m.First && w.state.Halted && !w.state.Anew {
		return w.anew(ctx)
	}
	return w.askUp(why)
}

// anew starts a machine once more that was started from served disks and could not read them for a while: a firmware does not wait, and tries nothing twice.
func (w *work) anew(ctx context.Context) error {
	if err := w.cutOff(ctx); err != nil {
		return err
	}
	if err := w.start(ctx); err != nil {
		return err
	}
	w.state.Anew = true
	w.evidence(
		"it could not read its disks for a while before it had come up, was not seen to come up then, and was switched off and on once more",
	)
	return w.watch(ctx)
}

// askUp asks a person what is to be done with a machine that is not seen to be up.
func (w *work) askUp(why string) error {
	choices := []step.Choice{
		{Name: answerAgain, Label: "Look again"},
		{Name: answerBack, Label: "Go back: switch it off there, and start it where it was if it ran"},
		{Name: answerKeep, Label: "Stop here, both off, and keep both"},
		{Name: answerUp, Label: "It is up: go on"},
	}
	if !w.m.After.Container && !w.state.Saved { // what goes on from its memory has the hardware that it had
		choices = append(choices,
			step.Choice{Name: answerFirmware, Label: "Try it with the other firmware, BIOS or UEFI"},
			step.Choice{Name: answerBus, Label: "Try it with its disks on the next bus"},
		)
	}
	return w.ask(plan.StepWatch,
		fmt.Sprintf("%s was started on %s, and %s. Look at its screen: what is to be done?", w.m.After.Name, w.m.To, why), errNotUp, choices...)
}

// looksUp tells whether something is seen of the guest that only one which is up shows.
func (w *work) looksUp(ctx context.Context, m host.Machine) (bool, error) {
	signs, err := w.Ends.To.Signs(ctx, m)
	if err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return false, err
	}
	shows := w.state.Receipt.Screen
	switch {
	case signs.Agent:
		w.evidence("its guest agent answers")
	case w.serial.asksToLogIn():
		w.evidence("it asks for a login on its serial port")
	case alike(shows, w.state.Receipt.ScreenBefore):
		w.evidence("its screen shows what the screen of %s:%s showed before", w.m.Host, w.m.Name)
	case signs.Read >= readsAtLeast && !w.m.LoadsFirst || signs.Written >= writesAtLeast:
		w.evidence("it has read %s of its disks, and written %s", plan.Bytes(signs.Read), plan.Bytes(signs.Written))
	case w.state.Saved: // it does not start, but goes on where it was
	default:
		return false, nil
	}
	return true, nil
}

// picture keeps what the machine shows, where its host has that.
func (w *work) picture(ctx context.Context) error {
	m, err := w.there(ctx)
	if err != nil {
		return err
	}
	picture, err := w.Ends.To.Screen(ctx, m)
	if errors.Is(err, host.ErrGone) {
		return err
	}
	if err == nil {
		w.state.Receipt.Screen = picture
	}
	return nil
}

// keepBoth ends the job with both machines off.
func (w *work) keepBoth(ctx context.Context) error {
	if err := w.cutOff(ctx); err != nil {
		return err
	}
	w.state.Receipt.Started = true // it was, once
	w.state.Receipt.Source = fmt.Sprintf("%s still knows it, and it is off; so does %s", w.m.Host, w.m.To)
	w.state.Concluded = true
	return step.ErrEnough
}
