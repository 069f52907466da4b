package machines

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
)

const (
	// lookEvery is how often a machine is looked at that is to end or to come up.
	lookEvery = time.Second
	// endIn is for how long a guest is waited for that was asked to end.
	endIn = 2 * time.Minute
)

// errStillOn is why a machine cannot be carried that does not end.
var errStillOn = errors.New("the guest does not end")

// Answers to the question what to do with a guest that does not end, and with one that was not seen to come up.
const (
	answerBack   = "back"
	answerAgain  = "again"
	answerCutOff = "cut-off"
	answerUp     = "up"
	answerKeep   = "keep"
)

// off sees that the source is off, and shuts it down where that is asked for.
func (w *work) off(ctx context.Context) error {
	if w.state.Without {
		return w.isOff(ctx)
	}
	m, err := w.source(ctx)
	if err != nil {
		return err
	}
	if len(w.m.Live) == 0 || w.m.First { // otherwise it was changed by the job
		if err := w.changed(m); err != nil {
			return err
		}
	}
	if len(w.m.Live) > 0 && m.State != host.Off && w.state.Stopping.IsZero() {
		w.showedBefore(ctx, m)
		w.state.Stopping = time.Now()
		if err := w.Keep(ctx); err != nil {
			return err
		}
	}
	switch {
	case w.m.Memory != nil:
		return w.save(ctx, m)
	case m.State == host.Off:
		return nil
	case m.State == host.Saved:
		return blocked("off", fmt.Sprintf("%s is saved: its memory would not fit the disks any more. Start it, and shut it down.", w.m.Name))
	case w.m.Suspend:
		return w.suspend(ctx, m)
	case !w.m.Stop:
		return inUse(fmt.Sprintf("%s is %s: shut it down.", w.m.Here(), m.State))
	}
	if !w.state.Receipt.WasRunning {
		w.state.Receipt.WasRunning = true
		w.showedBefore(ctx, m)
		if err := w.Keep(ctx); err != nil { // it is started again when the job goes back
			return err
		}
	}
	switch w.answered(plan.StepOff) {
	case answerBack:
		return errStillOn
	case answerCutOff:
		w.evidence("%s did not end by itself, and was cut off when a person said so: its disks are what a power cut leaves", w.m.Name)
		return w.Ends.From.CutOff(ctx, m)
	}
	return w.end(ctx, m)
}

// errWentOn is why the disks of a machine are not what they were at one moment.
var errWentOn = errors.New("somebody let it go on while its disks were read: what was read is torn")

// suspend halts the source, and waits until times of files tell what is written later, which are whole seconds in places. One that somebody has
// suspended stays so.
func (w *work) suspend(ctx context.Context, m host.Machine) error {
	if !w.state.Halts {
		w.state.Halts, w.state.Receipt.WasRunning = true, m.State != host.Suspended
		w.showedBefore(ctx, m)
		w.evidence("%s was suspended while its disks were read: the copy is what a power cut would leave", w.m.Here())
		if err := w.Keep(ctx); err != nil { // it goes on when the job goes back
			return err
		}
	}
	if err := w.Ends.From.Suspend(ctx, m); err != nil {
		return fmt.Errorf("suspending %s: %w", w.m.Here(), err)
	}
	for range 2 {
		if err := pause(ctx); err != nil {
			return err
		}
	}
	return w.halted(ctx)
}

// halted fails unless the source that was not off is suspended.
func (w *work) halted(ctx context.Context) error {
	m, err := w.source(ctx)
	if err == nil && w.state.Halts && m.State != host.Suspended {
		err = fmt.Errorf("%s is %s: %w", w.m.Here(), m.State, errWentOn)
	}
	return err
}

// screenTries is how often a picture of a screen is asked for that a host did not give: one that is busy may fail once.
const screenTries = 3

// showedBefore keeps what the source shows, only to compare with.
func (w *work) showedBefore(ctx context.Context, m host.Machine) {
	for range screenTries {
		picture, err := w.Ends.From.Screen(ctx, m)
		if err == nil {
			w.state.Receipt.ScreenBefore = picture
		}
		if err == nil || errors.Is(err, errors.ErrUnsupported) || pause(ctx) != nil {
			return
		}
	}
}

// end asks the guest to end until it has, or a person what to do.
func (w *work) end(ctx context.Context, m host.Machine) error {
	for until := time.Now().Add(endIn); ; {
		if err := w.Ends.From.ShutDown(ctx, m); err != nil { // again and again: a guest that is starting does not listen yet
			return err
		}
		now, err := w.source(ctx)
		if err != nil || now.State == host.Off {
			return err
		}
		if time.Now().After(until) {
			break
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
	return w.ask(plan.StepOff, fmt.Sprintf("%s was asked to end %s ago, and still runs. What is to be done?", w.m.Name, endIn), errStillOn,
		step.Choice{Name: answerAgain, Label: "Ask it again, and wait"},
		step.Choice{Name: answerBack, Label: "Leave it running, and give the job up"},
		step.Choice{Name: answerCutOff, Label: "Cut it off: its disks will be what a power cut leaves"},
	)
}

func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(lookEvery):
		return nil
	}
}

// onAgain starts the source where the job had shut it down.
func (w *work) onAgain(ctx context.Context) error {
	if !w.state.Receipt.WasRunning {
		return nil
	}
	m, err := w.source(ctx)
	if err != nil || m.State == host.Running {
		return err
	}
	fits, err := w.fits()
	if err != nil {
		return err
	}
	if fits && m.State == host.Off {
		found, err := w.goOnFrom(ctx, w.Ends.From, m, w.m.Memory.Was, w.m.Memory.WasFile, w.topmost)
		if found && err == nil {
			w.state.Receipt.Source = "it has gone on where it was"
			return nil
		}
		if errors.Is(err, host.ErrGone) {
			return err
		}
		if !found {
			err = errors.New("the file with that was used already")
		}
		w.evidence("it could not go on from what it had in memory (%v): its disks are what a power cut leaves", err)
	}
	if err := w.Ends.From.Start(ctx, m); err != nil {
		return fmt.Errorf("starting %s again: %w", w.m.Name, err)
	}
	w.state.Receipt.Source = "it was started again"
	if w.m.Suspend {
		w.state.Receipt.Source = "it has gone on"
	}
	return nil
}
