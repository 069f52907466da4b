package machines

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// A machine that is started in its new place before its disks are there: they are served to its host from where they lie, and what its guest writes goes into images over
// them, which the host mirrors to images on the new disks when those are proven.

// lend serves the old disks to the new host, and makes the machine known there.
func (w *work) lend(ctx context.Context) error {
	if err := errors.Join(w.isOff(ctx), w.isFree(ctx)); err != nil {
		return err
	}
	if w.state.Frozen.IsZero() {
		w.state.Frozen = time.Now()
	}
	var loans []step.Loan
	for _, d := range w.m.Live {
		loans = append(loans, step.Loan{Slot: d.Slot, At: d.Was, Format: d.OldForm})
	}
	exports, err := w.Ends.Lender.Lend(ctx, w.ID, w.m.After.Name, loans)
	if err != nil {
		return fmt.Errorf("serving its disks to %s: %w", w.m.To, err)
	}
	for _, d := range w.m.Live {
		x := exports[d.Slot]
		x.Over = d.CoverAt
		exports[d.Slot] = x
		if err := w.makeFirst(ctx, d); err != nil {
			return fmt.Errorf("making %s: %w", d.Cover, err)
		}
	}
	made, err := w.Ends.To.Borrow(ctx, []byte(w.m.Definition), exports)
	if err != nil {
		return fmt.Errorf("making it known as %s: %w", w.m.There(), err)
	}
	w.evidence(
		"it is started on %s from its old disks, which are served to it, and stand still as of %s",
		w.m.To,
		w.state.Frozen.Format(time.RFC3339),
	)
	return w.known(ctx, made)
}

// makeFirst makes the image that the guest writes to meanwhile. One of an earlier time is made anew: no guest was started on it.
func (w *work) makeFirst(ctx context.Context, d plan.LiveDisk) error {
	qcow2, err := disk.Lookup("qcow2")
	if err != nil {
		return err
	}
	if err := w.unmake(d.Cover); err != nil {
		return err
	}
	folder := w.Ends.Pools[d.Cover.Pool]
	made, err := qcow2.Create(disk.Target{Folder: folder, Name: d.Cover.Path, Size: d.Size, Layout: "thin", Created: w.state.Frozen})
	if err == nil {
		err = errors.Join(made.Commit(ctx), made.Close())
	}
	o, ok := storage.As[storage.Owner](folder)
	for _, b := range w.Plan.Bodies { // whose rules hold for it too
		if b.ID == d.ID && ok && err == nil && (b.Owner != "" || b.Mode != "") {
			err = o.Own(d.Cover.Path, b.Owner, b.Mode)
		}
	}
	return err
}

// unlend has the new host forget the machine, which is off there. What its guest wrote stays where it is, if it came up.
func (w *work) unlend(ctx context.Context) error {
	m, err := w.there(ctx)
	if err == nil && m.State != host.Off {
		err = w.Ends.To.CutOff(ctx, m)
	}
	if err == nil && (w.state.Known != "" || w.isOurs(m)) {
		err = w.Ends.To.Forget(ctx, m)
	}
	if err != nil && !errors.Is(err, host.ErrNoMachine) {
		return fmt.Errorf("having %s forgotten: %w", w.m.There(), err)
	}
	w.state.Receipt.Defined = false
	for _, d := range w.m.Live {
		if w.state.CameUp {
			w.evidence("what its guest wrote on %s stays in %s, over its old disk as that was", w.m.To, d.Cover)
			continue
		}
		if err := w.unmake(d.Cover); err != nil {
			return err
		}
	}
	return errors.Join(w.Ends.Lender.Return(ctx, w.ID), w.Keep(ctx)) // the receipt has what is said here
}
