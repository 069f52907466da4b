package disks

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// compare notes both sides and, unless that was left out, reads the new image back.
func (w *work) compare(ctx context.Context, copied transfer.Result) error {
	r := &w.proof
	sum, err := copied.Leaves.Sum()
	if err != nil {
		return err
	}
	part, fitted := !w.disk.Request.Selection().All(), w.disk.Fit != nil
	if r.Source.Read(sum, receipt.FromContent); part {
		r.Source.FingerprintFrom = receipt.FromPart
	}
	if fitted {
		r.Source.FingerprintFrom = receipt.FromFitted
	}
	if err := w.known(ctx, copied.Leaves); err != nil {
		return err
	}
	r.Fit = w.disk.Fit
	request := w.disk.Request
	made, err := w.carried().Made(ctx)
	if err != nil {
		return destination(fmt.Errorf("opening what was written: %w", err))
	}
	defer made.Close()
	facts, err := look(ctx, w.Ends.Destination, made, checkAll)
	if err = errors.Join(err, facts.Problem); err != nil {
		return destination(fmt.Errorf("looking at what was written: %w", err))
	}
	side := *w.disk.After
	side.VirtualSize, side.AllocatedSize, side.FileSize = made.Size(), facts.Allocated, facts.FileSize
	r.Destination = &receipt.Side{Side: side}
	if request.NoProof {
		r.Outcome, r.Reason, r.Compared = receipt.Unproven, "the proof was left out on request", "nothing"
		return nil
	}
	back, err := w.readMade(ctx, made)
	if err != nil {
		return err
	}
	got, err := back.Leaves.Sum()
	if err != nil {
		return err
	}
	expected := copied.Leaves
	r.Compared = "the fingerprint of the source with that of the destination, read back from storage"
	if part {
		r.Compared = "the fingerprint of what was read of the source, with zeros for the rest, with that of the destination, read back from storage"
	}
	if fitted {
		r.Compared = "the fingerprint of the source as it was made to fit to its new size, with that of the destination, read back from storage"
	}
	if made.Size() != w.src.Size() {
		expected = expected.Extended(made.Size(), copied.Tail)
		r.Compared = "the content of the source, followed by zeros up to the rounded size, with that of the destination, read back from storage"
	}
	want, err := expected.Sum()
	if err != nil {
		return err
	}
	r.Destination.Read(got, receipt.FromContent)
	if got != want {
		r.Differences = fingerprint.Difference(expected, back.Leaves, 20)
		r.Damage = inspect.Hits(ctx, w.src, r.Differences, false)
		return errNotAsWritten
	}
	if err := w.compareFitted(ctx, made); err != nil {
		return err
	}
	r.Outcome = receipt.Proven
	if w.state.Torn {
		r.Outcome, r.Reason = receipt.Unproven, "the image has what was read, and somebody wrote to the disk meanwhile: it was never like that at one moment"
	}
	w.checkShares(ctx, made)
	if len(r.Unreadable) > 0 {
		r.Outcome, r.Reason = receipt.Damaged, fmt.Sprintf(
			"%d range(s) of the source could not be read and are zeros in the copy; everything else is proven",
			len(r.Unreadable),
		)
	}
	return nil
}

// checkShares has what was read of each partition in the receipt, and looks at its filesystem on the new image.
func (w *work) checkShares(ctx context.Context, made disk.Reader) {
	w.proof.Partitions = slices.Clone(inspect.Shares(w.src)) // of what was copied
	for i := range w.proof.Partitions {
		w.proof.Skipped += w.proof.Partitions[i].Skipped
		w.proof.Partitions[i].Check(ctx, made)
	}
}

// readMade reads back what was written, behind what was read back already.
func (w *work) readMade(ctx context.Context, made disk.Reader) (transfer.Result, error) {
	earlier, err := w.recall(ctx, plan.StepProve, made.Size(), nil)
	if err != nil {
		return earlier, err
	}
	if earlier.Leaves.Next() == 0 && w.readBack != nil { // without records
		earlier.Leaves = w.readBack
	}
	if c, ok := storage.As[storage.Careful](w.Ends.Destination); ok {
		for _, caveat := range c.Caveats() {
			w.remarkOnce("of the proof: " + caveat)
		}
	}
	back, err := w.read(ctx, plan.StepProve, made, "what was written", earlier.Leaves)
	return back, destination(err)
}

// read reads a whole disk as a step of a kind. of says what it is.
func (w *work) read(
	ctx context.Context,
	kind string,
	src disk.Reader,
	of string,
	earlier *fingerprint.Leaves,
) (result transfer.Result, err error) {
	if w.report.Proven == nil {
		w.report.Proven = transfer.NewStrip(src.Size())
	}
	meter := transfer.Meter{Strip: w.report.Proven}
	count := func(r *receipt.Receipt, m *transfer.Meter) {
		r.BytesRead += m.Read.Load()
		r.BytesCompared += m.Read.Load()
		r.Retries += m.Retries.Load()
	}
	t := transfer.Transfer{
		Source: src,
		Of:     of,
		Meter:  &meter,
		Leaves: earlier,
		Wait:   w.Wait,
		Keep:   w.keeper(ctx, &meter, count),
		Every:  w.Every,
	}
	err = w.report.Run(kind, &meter, earlier, func() error {
		result, err = t.Run(ctx)
		return err
	})
	count(&w.proof, &meter)
	return result, err
}

// verify reads the source and compares it.
func (w *work) verify(ctx context.Context) error {
	request := w.disk.Request
	tag, err := w.tagToProve()
	if err != nil {
		return err
	}
	if request.Quick {
		return w.report.Run(plan.StepVerify, nil, nil, func() error { return w.proveQuickly(tag) })
	}
	fresh, err := w.openSource(ctx, storage.Fresh(w.Ends.Source))
	if err != nil {
		return err
	}
	defer fresh.Close()
	w.Log = (&step.Journal{}).Open(w.Subject, nil) // nothing is left by half a proof
	result, err := w.read(ctx, plan.StepVerify, fresh, "the disk", nil)
	if err != nil {
		return err
	}
	sum, err := result.Leaves.Sum()
	if err != nil {
		return err
	}
	r := &w.proof
	r.Source.Read(sum, receipt.FromContent)
	if request.AgainstDisk != nil {
		return w.verifyOther(ctx, fresh, result.Leaves)
	}
	if tag != nil {
		r.Against = tag.Fingerprint
		for _, d := range tag.Doubts {
			w.doubt("its tag says: " + d)
		}
	}
	if r.Against == "" {
		r.BytesCompared = 0
		r.Outcome, r.Compared = receipt.Unproven, "nothing: the disk was read whole from storage, and its tables agree with each other"
		return nil
	}
	r.Compared = "the fingerprint of the disk, read from storage, with the one asked for"
	if tag != nil {
		r.Compared = "the whole content of the disk, read from storage, with its tag (a full proof)"
	}
	if r.Source.Fingerprint != r.Against {
		if tag != nil {
			r.Differences = fingerprint.Difference(tag.Leaves, result.Leaves, 20)
			r.Damage = inspect.Hits(ctx, fresh, r.Differences, false)
			w.remarkModified(tag)
		}
		return fmt.Errorf("%w: the disk has %s, and %s was expected", step.ErrNotProven, r.Source.Fingerprint, r.Against)
	}
	r.Outcome = receipt.Proven
	return nil
}
