// Package machines has the steps of a machine that is carried from host to host: see that it is off, make it known in its new place, start it,
// see it come up, compare, and take it from the list of its old host. Never are both switched on by it.
package machines

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/google/uuid"
)

func init() {
	step.Register(step.Family{Name: "machine", Begin: begin, Kinds: []step.Kind{
		{Name: plan.StepOff, Do: run(plan.StepOff, (*work).off), Undo: undo(plan.StepOff, (*work).onAgain)},
		{Name: plan.StepOn, Do: run(plan.StepOn, (*work).onAgain)},
		{Name: plan.StepHalted, Do: run(plan.StepHalted, (*work).halted)},
		{Name: plan.StepCover, Do: run(plan.StepCover, (*work).cover), Undo: undo(plan.StepCover, (*work).uncover)},
		{Name: plan.StepPasses, Do: run(plan.StepPasses, (*work).passes), Undo: undo(plan.StepPasses, (*work).dropPasses)},
		{Name: plan.StepLast, Do: run(plan.StepLast, (*work).last), Undo: undo(plan.StepLast, (*work).dropPasses)},
		{Name: plan.StepLend, Do: run(plan.StepLend, (*work).lend), Undo: undo(plan.StepLend, (*work).unlend)},
		{Name: plan.StepMirror, Do: run(plan.StepMirror, (*work).mirror), Undo: undo(plan.StepMirror, (*work).mirrorBack)},
		{Name: plan.StepMerge, Do: run(plan.StepMerge, (*work).merge)},
		{Name: plan.StepLeave, Do: run(plan.StepLeave, (*work).leave), Undo: undo(plan.StepLeave, (*work).comeBack)},
		{Name: plan.StepManifest, Do: run(plan.StepManifest, (*work).manifest)},
		{Name: plan.StepRest, Do: run(plan.StepRest, (*work).rest), Undo: undo(plan.StepRest, (*work).unrest)},
		{Name: plan.StepDefine, Do: run(plan.StepDefine, (*work).define), Undo: undo(plan.StepDefine, (*work).undefine)},
		{Name: plan.StepStart, Do: run(plan.StepStart, (*work).start), Undo: undo(plan.StepStart, (*work).cutOff)},
		{Name: plan.StepWatch, Do: run(plan.StepWatch, (*work).watch)},
		{Name: plan.StepCompare, Do: run(plan.StepCompare, (*work).compare)},
		{Name: plan.StepTake, Do: run(plan.StepTake, (*work).take), Undo: undo(plan.StepTake, (*work).dropTaken)},
		{Name: plan.StepGoBack, Do: run(plan.StepGoBack, (*work).goBack), Undo: undo(plan.StepGoBack, (*work).goForth)},
		{Name: plan.StepDrop, Do: run(plan.StepDrop, (*work).drop)},
		{Name: plan.StepAttach, Do: run(plan.StepAttach, (*work).attach), Undo: undo(plan.StepAttach, (*work).detachGiven)},
		{Name: plan.StepDetach, Do: run(plan.StepDetach, (*work).detach), Undo: undo(plan.StepDetach, (*work).attachTaken)},
		{Name: plan.StepWithdraw, Do: run(plan.StepWithdraw, (*work).withdraw), Undo: undo(plan.StepWithdraw, (*work).enlist)},
	}})
}

// run makes an action of what does a kind of step. That it begins is kept first: from then on it may have to be taken back.
func run(kind string, do func(*work, context.Context) error) step.Action {
	return step.On(func(w *work, ctx context.Context) error {
		if err := w.Log.Enter(ctx, kind, w.state); err != nil {
			return err
		}
		return w.report.Run(kind, nil, nil, func() error { return do(w, ctx) })
	})
}

// undo makes an action of what takes a kind of step back. It is not cancelled.
func undo(kind string, back func(*work, context.Context) error) step.Action {
	return step.On(func(w *work, ctx context.Context) error {
		if err := w.recall(); err != nil {
			return err
		}
		return w.report.Run(kind, nil, nil, func() error { return back(w, context.WithoutCancel(ctx)) })
	})
}

// state is how far the work is.
type state struct {
	Receipt receipt.Machine `json:"receipt"`
	// Known is the UUID by which the new host knows the machine, empty before.
	Known string `json:"known,omitempty"`
	// Tried is the machine as it was tried otherwise than planned, nil where it was not.
	Tried *tried `json:"tried,omitempty"`
	// Halts tells that the source has to be suspended while its disks are read.
	Halts bool `json:"halts,omitempty"`
	// Stood is for how long the guest of a machine that moves while it runs stood still, in microseconds, and Frozen since when its disks do.
	Stood  int64     `json:"stood,omitempty"`
	Frozen time.Time `json:"frozen,omitzero"`
	// Passes is how often what was written meanwhile was copied, to another host, and Carried how many bytes that were. Stopping is since when it is shut down.
	Passes   int       `json:"passes,omitempty"`
	Carried  int64     `json:"carried,omitempty"`
	Speed    float64   `json:"speed,omitempty"` // bytes a second
	Stopping time.Time `json:"stopping,omitzero"`
	// Course are the last passes.
	Course []step.Pass `json:"course,omitempty"`
	// Base is the pass whose image in the new place stands on the new disk itself, and has all that was written before; Folded is that whose image on the old
	// disk was written down into the first one.
	Base   int `json:"base,omitempty"`
	Folded int `json:"folded,omitempty"`
	// Copied is the moment that the copy is of, of a machine that is kept up to date. Going tells that it is to go over, and Without that it goes without its old host.
	Copied  time.Time `json:"copied,omitzero"`
	Covered time.Time `json:"covered,omitzero"` // when its guest was last had to write to newer images, which is what the next copy will be of
	Going   bool      `json:"going,omitempty"`
	Without bool      `json:"without,omitempty"`
	// Last is what the files looked like, by their places, from which what was written last was copied.
	Last map[string]string `json:"last,omitempty"`
	// CameUp tells that it came up in its new place, whatever became of it then.
	CameUp bool `json:"came_up,omitempty"`
	// Watched tells that it was begun to see it come up, Halted that it may not have been able to read its disks since it was started, and Anew that it was started once more
	// for that.
	Watched bool `json:"watched,omitempty"`
	Halted  bool `json:"halted,omitempty"`
	Anew    bool `json:"anew,omitempty"`
	// Saving tells that its old host was to write what it has in memory to a file, and Saved that it did.
	Saving bool `json:"saving,omitempty"`
	Saved  bool `json:"saved,omitempty"`
	// SavedWith is what the images looked like that its guest wrote to, when that was written.
	SavedWith map[string]string `json:"saved_with,omitempty"`
	// Untouched is what the images looked like that its guest writes to, before it was to go on from what it had in memory.
	Untouched map[string]string `json:"untouched,omitempty"`
	// Halting tells that its host is doing what may halt it.
	Halting bool `json:"halting,omitempty"`
	// Concluded tells that the receipt says all.
	Concluded bool `json:"concluded,omitempty"`
}

// work is the work on the machine of a job.
type work struct {
	step.Job
	m      plan.Machine
	report *step.Reporter
	state  state
	proof  receipt.Receipt
	serial *ear // nil while nobody listens
}

func begin(j step.Job) (step.Work, error) {
	if j.Plan.Machine == nil {
		return nil, fmt.Errorf("%w: the plan says nothing of the machine: plan it again", plan.ErrRequest)
	}
	w := &work{Job: j, m: *j.Plan.Machine, report: j.Reporter()}
	w.state.Receipt = receipt.Machine{
		From: w.m.Here(), To: w.m.There(), Move: w.m.Move, Evidence: []string{}, Differences: append([]machine.Difference{}, w.m.Differences...),
	}
	if w.m.Undoes != nil {
		r := &w.state.Receipt
		r.From, r.To, r.Differences = r.To, r.From, machine.Compare(w.m.After, w.m.Before)
		w.state.Concluded = true
	}
	w.proof = receipt.Receipt{ID: uuid.NewString(), Kind: j.Plan.Request.Kind, Steps: []receipt.Done{}, Started: time.Now()}
	return w, nil
}

// Open takes up what an earlier time left.
func (w *work) Open(context.Context) error {
	err := w.recall()
	if len(w.state.Course) > 0 {
		w.report.Pass(w.m.LongestStop, w.state.Course...)
	}
	return err
}

func (w *work) recall() error {
	if w.m.Undoes == nil {
		_, err := w.Log.Load(&w.state)
		return err
	}
	var ended step.Journal
	if err := json.Unmarshal(w.m.Undoes.Journal, &ended); err != nil {
		return fmt.Errorf("reading how far the job was: %w", err)
	}
	var old state
	if err := json.Unmarshal(ended.Subjects[plan.MachineSubject].State, &old); err != nil {
		return fmt.Errorf("reading how far the job was: %w", err)
	}
	w.state.Known = old.Known
	return nil
}

// Keep keeps how far it is.
func (w *work) Keep(ctx context.Context) error {
	if w.Log.Begun == "" {
		return nil
	}
	return w.Log.Keep(ctx, w.state, nil)
}

// Close listens no more. The hosts are the service's.
func (w *work) Close() { w.deafen() }

// Clear has nothing to remove: what was made known to a host is taken back by its step.
func (w *work) Clear() error { return nil }

// IsEnough tells that nothing more is to be done, which is never so before the last step.
func (w *work) IsEnough() bool { return false }

// CallOff has nothing to do: the steps of a machine are taken back one by one.
func (w *work) CallOff(context.Context) error { return nil }

// Placed tells whether the machine is in its new place, complete, or what was to be done with it where it is is done.
func (w *work) Placed() bool {
	kind := plan.StepCompare
	switch {
	case w.m.Removes:
		kind = plan.StepWithdraw
	case w.Plan.Packed != nil:
		kind = plan.StepOff
	case w.m.Given != nil:
		kind = plan.StepAttach
	case plan.IsStaying(w.Plan.Request.Kind):
		kind = w.Plan.Steps[len(w.Plan.Steps)-1].Kind
	}
	return w.recall() == nil && w.Log.IsDone(kind)
}

// Receipt is what became of it so far.
func (w *work) Receipt() *receipt.Receipt {
	m := w.state.Receipt
	if w.state.Concluded || w.Plan.Packed != nil && w.Log.IsDone(plan.StepOff) {
		w.conclude()
	}
	w.proof.Machine, w.proof.Steps = &m, append([]receipt.Done{}, w.report.Done...)
	if len(w.m.Live) > 0 {
		w.proof.Passes, w.proof.StoppedMs = 1+w.state.Passes, (w.state.Stood+999)/1000
	}
	return &w.proof
}

// source is the machine as its old host has it, or fails where that is another one by now.
func (w *work) source(ctx context.Context) (host.Machine, error) {
	m, err := w.Ends.From.Machine(ctx, w.m.Name)
	if errors.Is(err, host.ErrNoMachine) {
		return m, blocked("machine", fmt.Sprintf("%s is not there any more.", w.m.Here()))
	}
	if err == nil && m.UUID != w.m.Before.UUID {
		err = blocked("machine", fmt.Sprintf("%s is another machine by now: plan it again.", w.m.Here()))
	}
	return m, err
}

// there is the machine as its new host has it.
func (w *work) there(ctx context.Context) (host.Machine, error) {
	m, err := w.Ends.To.Machine(ctx, w.m.After.Name)
	if err == nil && w.state.Known != "" && m.UUID != w.state.Known {
		err = fmt.Errorf("%w: %s is another machine by now", host.ErrNoMachine, w.m.There())
	}
	return m, err
}

// isOff fails unless the source is off, where both have one identity: they must never run together. Any other copy is a machine of its own.
func (w *work) isOff(ctx context.Context) error {
	if !w.m.Alone() {
		return nil
	}
	m, err := w.source(ctx)
	if w.state.Without && away(err) { // somebody has said that it goes over all the same
		return nil
	}
	if err == nil && m.State != host.Off {
		err = inUse(fmt.Sprintf("%s is %s: somebody started it while it was being carried.", w.m.Here(), m.State))
	}
	return err
}

// changed fails when the definition of the source is not the one that was planned with.
func (w *work) changed(m host.Machine) error {
	if string(m.Definition) == w.m.Stored {
		return nil
	}
	now, err := machine.Describe(m.Format, m.Definition)
	if err != nil {
		return fmt.Errorf("reading the definition of %s: %w", w.m.Name, err)
	}
	what := "in something that only its host knows"
	if d := machine.Compare(w.m.Before, now); len(d) > 0 {
		what = d[0].What
	}
	return blocked("machine", fmt.Sprintf("The definition of %s was changed since this was planned (%s): plan it again.", w.m.Name, what))
}

func blocked(name, message string) error {
	return &step.BlockedError{Check: plan.Check{Name: name, Severity: plan.Blocks, Message: message}}
}

// inUse is likewise, and passes by itself when the machine is off again.
func inUse(message string) error { return blocked("in-use", message) }

func (w *work) evidence(format string, args ...any) {
	w.state.Receipt.Evidence = append(w.state.Receipt.Evidence, fmt.Sprintf(format, args...))
}

// answered is what a person answered to a kind of step that had asked.
func (w *work) answered(kind string) string {
	if w.Answer.Step != w.Log.ID(kind) {
		return ""
	}
	answer := w.Answer.Name
	w.Answer = step.Answer{} // it counts once
	return answer
}

// ask makes an error of a question, or of why where nobody can be asked.
func (w *work) ask(kind, text string, why error, answers ...step.Choice) error {
	if !w.Asks {
		return why
	}
	return &step.AskedError{Question: step.Question{Step: w.Log.ID(kind), Text: text, Answers: answers}, Err: why}
}
