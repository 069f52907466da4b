// Package packages has the steps of a package of a machine: write its disks, its envelope and its manifest in one go, in a folder or into one archive, read
// it back, and give it its name.
package packages

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

func init() {
	step.Register(step.Family{Name: "package", Begin: begin, Kinds: []step.Kind{
		{Name: plan.StepPack, Do: step.On((*work).pack)},
		{Name: plan.StepReread, Do: step.On((*work).reread)},
		{Name: plan.StepPut, Do: step.On((*work).put), Undo: step.On((*work).takeAway)},
	}})
}

// state is how far the work is.
type state struct {
	Files []string `json:"files"` // of the package, in the staging folder; what makes it a package last
	// Fingerprints are those of the disks, as they were read.
	Fingerprints []string `json:"fingerprints"`
	// Seen is what the storage told of each when it was read.
	Seen    []string        `json:"seen"`
	Receipt receipt.Receipt `json:"receipt"`
}

// work is the work on the package of a job.
type work struct {
	step.Job
	body   plan.Packed
	report *step.Reporter
	state  state
}

func begin(j step.Job) (step.Work, error) {
	if j.Plan.Packed == nil {
		return nil, fmt.Errorf("%w: the plan says nothing of the package: plan it again", plan.ErrRequest)
	}
	w := &work{Job: j, body: *j.Plan.Packed, report: j.Reporter()}
	w.state.Receipt = receipt.Receipt{
		ID: uuid.NewString(), Kind: j.Plan.Request.Kind, Steps: []receipt.Done{}, Started: time.Now(),
		Destination: &receipt.Side{Side: plan.Side{Place: w.body.Into}},
	}
	if len(w.body.Disks) > 0 {
		d := w.body.Disks[0]
		w.state.Receipt.Source = receipt.Side{Side: plan.Side{Place: d.Source, Format: d.Format, VirtualSize: d.Size}}
	}
	return w, nil
}

// Open takes up what an earlier time left.
func (w *work) Open(context.Context) error {
	_, err := w.Log.Load(&w.state)
	return err
}

// Keep keeps how far it is.
func (w *work) Keep(ctx context.Context) error {
	if w.Log.Begun == "" {
		return nil
	}
	return w.Log.Keep(ctx, w.state, nil)
}

// Close has nothing open between steps.
func (w *work) Close() {}

// Clear removes what has no name yet.
func (w *work) Clear() error { return disks.Clear(w.Ends.Destination, w.ID) }

// IsEnough tells that nothing more is to be done, which is never so before the last step.
func (w *work) IsEnough() bool { return false }

// CallOff has nothing to do: the source stays as it is.
func (w *work) CallOff(context.Context) error { return nil }

// Placed tells whether the package has its name.
func (w *work) Placed() bool {
	_, err := w.Log.Load(&w.state)
	return err == nil && w.Log.IsDone(plan.StepPut)
}

// Receipt is what is proven so far.
func (w *work) Receipt() *receipt.Receipt {
	r := w.state.Receipt
	r.Steps = append([]receipt.Done{}, w.report.Done...)
	return &r
}

// staging is the folder in which it is made.
func (w *work) staging() string { return path.Join(disks.StagingFolder, w.ID) }

// placed is where a file of the package goes.
func (w *work) placed(name string) string {
	if w.body.Archive {
		return w.body.Into.Path
	}
	return path.Join(w.body.Into.Path, name)
}

// put gives the package its name: all of its files, and what makes it a package last. Nothing is overwritten.
func (w *work) put(ctx context.Context) error {
	if err := w.Log.Enter(ctx, plan.StepPut, w.state); err != nil {
		return err
	}
	return w.report.Run(plan.StepPut, nil, nil, func() error {
		to := w.Ends.Destination
		for _, name := range w.state.Files {
			from := path.Join(w.staging(), name)
			if _, err := to.Stat(from); errors.Is(err, fs.ErrNotExist) {
				if _, err := to.Stat(w.placed(name)); err == nil { // an earlier time did it
					continue
				}
			}
			if err := to.Rename(from, w.placed(name)); err != nil {
				return &transfer.DestinationError{Err: fmt.Errorf("giving the package its name: %w", err)}
			}
		}
		for at := path.Dir(w.placed("any")); ; at = path.Dir(at) {
			if err := to.Sync(at); err != nil {
				return &transfer.DestinationError{Err: err}
			}
			if at == "." {
				return nil
			}
		}
	})
}

// takeAway removes what has its name, where the job goes back: nothing of it was there before.
func (w *work) takeAway(context.Context) error {
	if _, err := w.Log.Load(&w.state); err != nil {
		return err
	}
	for _, name := range w.state.Files {
		if _, err := w.Ends.Destination.Stat(path.Join(w.staging(), name)); err == nil { // it has no name yet
			continue
		}
		if err := w.Ends.Destination.Remove(w.placed(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
