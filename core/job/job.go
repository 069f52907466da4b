// Package job runs plans: it reads, writes into a staging folder, proves, gives the image its name, and says in a
// receipt what was done. Whatever happens, nothing half-made gets a final name and the source is only read.
package job

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// ErrNotProven is the error for a comparison that found a difference.
var ErrNotProven = errors.New("not proven")

// ErrBlocked is the error for a plan that a check blocks.
var ErrBlocked = errors.New("a check stands in the way")

// Run does what the plan says. id names its staging folder and must be unlike that of any other job. watch is called
// from one goroutine at a time. The receipt is complete in every case; the error is what went wrong, if anything.
func Run(ctx context.Context, id string, ends Ends, p plan.Plan, watch func(Progress)) (Receipt, error) {
	w := &work{ends: ends, plan: p, id: id, report: &reporter{steps: p.Steps, watch: watch}}
	w.receipt = Receipt{Kind: p.Request.Kind, Source: Side{Side: plan.Side{Place: p.Request.Source}}, Against: p.Request.Against, Steps: []Done{}, Started: time.Now()}
	err := w.run(ctx)
	r := &w.receipt
	r.Steps = append(r.Steps, w.report.done...)
	r.Finished = time.Now()
	r.Seconds = r.Finished.Sub(r.Started).Seconds()
	if err == nil {
		return *r, nil
	}
	r.Outcome = Failed
	if ctx.Err() != nil {
		r.Outcome, err = Cancelled, context.Cause(ctx)
	}
	err = Explain(err)
	r.Reason = err.Error()
	return *r, err
}

type work struct {
	ends    Ends
	plan    plan.Plan
	id      string
	report  *reporter
	receipt Receipt
	files   []string // of the image, in the order in which they get their names
}

func (w *work) run(ctx context.Context) error {
	for _, c := range w.plan.Checks {
		if c.Severity == plan.Blocks {
			return fmt.Errorf("%w: %s", ErrBlocked, c.Message)
		}
	}
	r := w.plan.Request
	w.receipt.Source.Side = *w.plan.Before
	from := r.Source
	from.Format = w.plan.Before.Format
	src, err := open(ctx, w.ends.Source, from)
	if err != nil {
		return err
	}
	defer src.Close()
	before, err := w.state(src)
	if err != nil {
		return err
	}
	err = w.report.run(plan.StepLook, nil, func() error {
		facts, err := look(ctx, w.ends.Source, src)
		return errors.Join(err, facts.Problem)
	})
	if err != nil {
		return err
	}
	if r.Kind == plan.Prove {
		return w.prove(ctx)
	}
	if err := w.convert(ctx, src); err != nil {
		return err
	}
	after, err := w.state(src)
	if err == nil && before != after {
		err = errors.New("the source changed while it was copied: shut down what writes to it, then start again")
	}
	if err == nil {
		err = w.report.run(plan.StepPlace, nil, func() error { return w.place(ctx) })
	}
	return errors.Join(err, w.clear())
}

// state is what changes when somebody writes to the source.
func (w *work) state(src disk.Reader) (string, error) {
	var state string
	d := src.Describe()
	for _, name := range append(d.Files, d.Chain...) {
		info, err := w.ends.Source.Stat(name)
		if err != nil {
			return "", fmt.Errorf("looking at the source again: %w", err)
		}
		state += fmt.Sprintln(name, info.ID, info.Size, info.Modified.UnixNano())
	}
	return state, nil
}

// prove reads the source and compares it.
func (w *work) prove(ctx context.Context) error {
	from := w.plan.Request.Source
	from.Format = w.plan.Before.Format
	fresh, err := open(ctx, storage.Fresh(w.ends.Source), from)
	if err != nil {
		return err
	}
	defer fresh.Close()
	result, err := w.read(ctx, fresh)
	if err != nil {
		return err
	}
	sum, err := result.Leaves.Sum()
	if err != nil {
		return err
	}
	r := &w.receipt
	r.Source.Fingerprint = sum.String()
	if r.Against == "" {
		r.Outcome, r.Compared = Unproven, "nothing: the disk was read whole from storage, and its tables agree with each other"
		return nil
	}
	r.BytesCompared = r.BytesRead
	r.Compared = "the fingerprint of the disk, read from storage, with the one asked for"
	if r.Source.Fingerprint != r.Against {
		return fmt.Errorf("%w: the disk has %s, and %s was expected", ErrNotProven, r.Source.Fingerprint, r.Against)
	}
	r.Outcome = Proven
	return nil
}

// read reads a whole disk as the step of proof.
func (w *work) read(ctx context.Context, src disk.Reader) (result transfer.Result, err error) {
	var meter transfer.Meter
	err = w.report.run(plan.StepProve, &meter, func() error {
		result, err = transfer.Run(ctx, src, nil, nil, &meter)
		return err
	})
	w.receipt.BytesRead += meter.Read.Load()
	return result, err
}

// staging is the folder in the destination pool in which the image is made.
func (w *work) staging() string { return path.Join(StagingFolder, w.id) }

// convert leaves the new image, synced and proven, in the staging folder.
func (w *work) convert(ctx context.Context, src disk.Reader) (err error) {
	defer func() {
		if err != nil {
			err = errors.Join(err, w.clear())
		}
	}()
	r := w.plan.Request
	format, err := disk.Lookup(r.As)
	if err != nil {
		return err
	}
	target, err := w.target(ctx)
	if err != nil {
		return err
	}
	if target.Base != nil {
		defer target.Base.Close()
	}
	dst, err := format.Create(target)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, dst.Abort())
		}
	}()
	w.files = dst.Files()
	var result transfer.Result
	var meter transfer.Meter
	err = w.report.run(plan.StepWrite, &meter, func() error {
		result, err = transfer.Run(ctx, src, dst, target.Base, &meter)
		return err
	})
	w.receipt.BytesRead, w.receipt.BytesWritten = meter.Read.Load(), meter.Written.Load()
	if err != nil {
		return err
	}
	err = w.report.run(plan.StepSecure, nil, func() error {
		return errors.Join(dst.Commit(ctx), w.syncFolders(w.staging()))
	})
	if err != nil {
		return err
	}
	return w.compare(ctx, result)
}

// target says what to make, and opens what it is to stand on.
func (w *work) target(ctx context.Context) (t disk.Target, err error) {
	r := w.plan.Request
	t = disk.Target{
		Folder: storage.Sub(w.ends.Destination, w.staging()), Name: path.Base(r.Destination.Path), Size: w.plan.After.VirtualSize, Layout: w.plan.After.Layout,
		Options: r.Options, Identifier: uuid.New(), Created: time.Now(),
	}
	if r.Seed != "" {
		t.Identifier, t.Created = uuid.NewSHA1(uuid.Nil, []byte("bagaglio "+r.Seed)), time.Time{}
	}
	if r.Base == "" {
		return t, nil
	}
	if t.BaseName, err = filepath.Rel(path.Dir(r.Destination.Path), path.Clean(r.Base)); err != nil {
		return t, fmt.Errorf("naming the base %s: %w", r.Base, err)
	}
	t.Base, err = openBase(ctx, w.ends.Destination, r)
	return t, err
}

// compare notes both sides and, unless that was left out, reads the new image back.
func (w *work) compare(ctx context.Context, copied transfer.Result) error {
	r := &w.receipt
	sum, err := copied.Leaves.Sum()
	if err != nil {
		return err
	}
	r.Source.Fingerprint = sum.String()
	final := w.plan.Request.Destination.Path
	made, err := disk.Origin{
		Folder: storage.Fresh(w.ends.Destination), Name: path.Join(w.staging(), path.Base(w.plan.After.Place.Path)), Home: path.Dir(path.Clean(final)),
	}.Open(ctx, w.plan.Request.As)
	if err != nil {
		return fmt.Errorf("opening what was written: %w", err)
	}
	defer made.Close()
	facts, err := look(ctx, w.ends.Destination, made)
	if err = errors.Join(err, facts.Problem); err != nil {
		return fmt.Errorf("looking at what was written: %w", err)
	}
	side := *w.plan.After
	side.VirtualSize, side.AllocatedSize, side.FileSize = made.Size(), facts.Allocated, facts.FileSize
	r.Destination = &Side{Side: side}
	if w.plan.Request.NoProof {
		r.Outcome, r.Reason, r.Compared = Unproven, "the proof was left out on request", "nothing"
		return nil
	}
	back, err := w.read(ctx, made)
	if err != nil {
		return err
	}
	got, err := back.Leaves.Sum()
	if err != nil {
		return err
	}
	expected := copied.Leaves
	r.Compared = "the fingerprint of the source with that of the destination, read back from storage"
	if made.Size() != w.plan.Before.VirtualSize {
		expected = expected.Extended(made.Size(), copied.Tail)
		r.Compared = "the content of the source, followed by zeros up to the rounded size, with that of the destination, read back from storage"
	}
	want, err := expected.Sum()
	if err != nil {
		return err
	}
	r.Destination.Fingerprint = got.String()
	r.BytesCompared = w.report.done[len(w.report.done)-1].Bytes
	if got != want {
		r.Differences = fingerprint.Difference(expected, back.Leaves, 20)
		return fmt.Errorf("%w: what was read back differs from what was written; nothing was put in place. "+
			"Check the destination's drive and memory, then start again", ErrNotProven)
	}
	r.Outcome = Proven
	return nil
}
