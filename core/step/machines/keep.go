package machines

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// A machine of which a copy on another host is kept up to date: passes at intervals, until somebody says that it is to go over. How it goes over is as for one that moves.

// answerWithout has it go over without its old host.
const answerWithout = "without"

// retryIn is when a host is asked again that cannot be reached.
const retryIn = time.Minute

// errEnded is why a copy is not kept where nobody can be asked.
var errEnded = errors.New("nobody can say when it is to go over")

// keepUp copies what was written meanwhile, and waits until that is to be done again, or somebody says that the machine is to go over.
func (w *work) keepUp(ctx context.Context) error {
	answer := w.answered(plan.StepPasses)
	m, err := w.goesOn(ctx)
	if away(err) {
		if answer == answerWithout {
			return w.goWithout(ctx)
		}
		text := fmt.Sprintf(
			"%s is not to be reached, and whether %s still runs there is not known. The copy on %s is of %s.",
			w.m.Host,
			w.m.Name,
			w.m.To,
			w.state.moment(),
		)
		return w.asks(text, retryIn, true,
			step.Choice{Name: answerAgain, Label: "Try again now"},
			step.Choice{Name: answerWithout, Label: "Start the copy as it is: what was written since is lost to it"})
	}
	if err != nil {
		return err
	}
	if answer == answerNow {
		w.state.Going = true
		return w.Keep(ctx)
	}
	every := time.Duration(w.m.KeepEvery) * time.Second
	if m.State == host.Off {
		return w.asks(fmt.Sprintf("%s is off. The copy on %s is of %s.", w.m.Here(), w.m.To, w.state.moment()), every, true,
			step.Choice{Name: answerAgain, Label: "Look again now"},
			step.Choice{Name: answerNow, Label: "Go over now: copy what was written last, and start it there"})
	}
	left, err := w.unread()
	if err == nil {
		w.begins(left)
		err = w.pass(ctx, m)
	}
	if err != nil {
		return err
	}
	return w.asks(fmt.Sprintf("The copy on %s is of %s.", w.m.To, w.state.moment()), every, false,
		step.Choice{Name: answerAgain, Label: "Copy now what was written since"},
		step.Choice{Name: answerNow, Label: "Go over now: shut it down, copy what was written last, and start it there"})
}

// away tells that a host, or its storage, is not to be reached.
func away(err error) bool { return errors.Is(err, host.ErrGone) || storage.Lost(err) }

// as is the moment that the copy is of.
func (s state) as() time.Time {
	if s.Copied.IsZero() {
		return s.Frozen
	}
	return s.Copied
}

func (s state) moment() string { return s.as().Local().Format("2006-01-02 15:04:05") }

// asks waits for an answer, for as long. trouble tells that the copy is not kept up to date meanwhile.
func (w *work) asks(text string, until time.Duration, trouble bool, answers ...step.Choice) error {
	if !w.Asks {
		return errEnded
	}
	return &step.AskedError{
		Question: step.Question{
			Step:    w.Log.ID(plan.StepPasses),
			Text:    text,
			Answers: answers,
			Until:   time.Now().Add(until),
			Trouble: trouble,
		},
		Err: errEnded,
	}
}

// goWithout has the machine go over as it was copied last, without its old host.
func (w *work) goWithout(ctx context.Context) error {
	w.state.Without, w.state.Stopping = true, time.Now()
	w.evidence(
		"%s was not to be reached: it goes over as it was at %s, and what its guest wrote after that is on its old disks alone",
		w.m.Host,
		w.state.moment(),
	)
	return w.Keep(ctx)
}

// topOff makes the images that the guest writes to in the new place, on what was copied last.
func (w *work) topOff(ctx context.Context) error {
	for _, d := range w.m.Live {
		on, form := d.Now, d.Format
		if w.state.Passes > 0 {
			_, _, on = d.Pass(w.state.Passes - 1)
			form = "qcow2"
		}
		if err := w.layerBeside(ctx, d.Top, on, form); err != nil {
			return err
		}
	}
	return nil
}

// Behind is how far the copy of a machine is behind that is kept up to date: the moment that it is of, and how many bytes were written since.
type Behind struct {
	Of    time.Time
	Bytes int64 // storage.Unknown where the old host does not tell
}

// BehindOf tells it of a job, by its journal. pools are the folders that the old disks lie in, by their pools.
func BehindOf(j step.Journal, m plan.Machine, pools map[string]storage.Folder) (b Behind, err error) {
	w := &work{m: m}
	w.Ends.Pools = pools
	if _, err := j.Open(plan.MachineSubject, nil).Load(&w.state); err != nil {
		return b, err
	}
	b.Of = w.state.as()
	if b.Bytes, err = w.unread(); err != nil {
		b.Bytes = storage.Unknown
	}
	return b, err
}
