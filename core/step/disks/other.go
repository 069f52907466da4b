package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// lookAtOther gathers what is known of the disk that the source is compared with.
func lookAtOther(ctx context.Context, ends step.Ends, r plan.Request) (*plan.SourceFacts, error) {
	if r.AgainstDisk == nil {
		return nil, nil
	}
	d, err := r.AgainstDisk.Origin(ends.Against).Open(ctx, r.AgainstDisk.Format)
	if err != nil {
		return &plan.SourceFacts{Problem: step.Explain(err)}, nil
	}
	defer d.Close()
	if same, err := isItself(ends, r, files(d)); err != nil || same {
		return &plan.SourceFacts{Problem: errors.New("it is the same disk, and that it is like itself proves nothing")}, err
	}
	f, err := look(ctx, ends.Against, d, disk.CheckSoon)
	if err != nil {
		return nil, err
	}
	if _, err := (watched{ends.Against, files(d)}).look(); errors.Is(err, step.ErrInUse) {
		f.InUse = err
	}
	return &f, nil
}

// isItself tells whether one of the files of another disk is the source.
func isItself(ends step.Ends, r plan.Request, files []string) (bool, error) {
	this, err := ends.Source.Stat(r.Source.Path)
	if err != nil || this.ID == "" { // otherwise the plan tells
		return false, nil
	}
	for _, name := range files {
		info, err := ends.Against.Stat(name)
		if err != nil {
			return false, err
		}
		if info.ID != this.ID {
			continue
		}
		from, err := ends.Source.Space()
		if err != nil {
			return false, err
		}
		to, err := ends.Against.Space()
		return err == nil && from.ID == to.ID, err // numbers of files are those of their storage
	}
	return false, nil
}

// verifyOther reads another disk, and compares it with what was read of this one. Where they differ, the ranges are found to the block.
func (w *work) verifyOther(ctx context.Context, this disk.Reader, leaves *fingerprint.Leaves) error {
	at := *w.disk.Request.AgainstDisk
	other, err := at.Origin(storage.Fresh(w.Ends.Against)).Open(ctx, at.Format)
	if err != nil {
		return fmt.Errorf("opening %s: %w", at, err)
	}
	defer other.Close()
	facts, err := look(ctx, w.Ends.Against, other, checkAll)
	if err = errors.Join(err, facts.Problem); err != nil {
		return fmt.Errorf("looking at %s: %w", at, err)
	}
	both := []watched{w.source, {w.Ends.Against, files(other)}}
	before, err := lookAll(both)
	if err != nil {
		return err
	}
	read, err := w.read(ctx, plan.StepOther, other, at.String(), nil)
	if err != nil {
		return err
	}
	sum, err := read.Leaves.Sum()
	if err != nil {
		return err
	}
	d := facts.Description
	r := &w.proof
	r.Other = &receipt.Side{Side: plan.Side{
		Place: at, Format: d.Format, Layout: d.Layout, VirtualSize: other.Size(), AllocatedSize: facts.Allocated, FileSize: facts.FileSize,
	}}
	r.Other.Read(sum, receipt.FromContent)
	r.Against, r.Compared = r.Other.Fingerprint, "the whole content of both disks, read from storage"
	if r.Source.Fingerprint != r.Against {
		if r.Differences, err = differing(ctx, this, other, leaves, read.Leaves); err != nil {
			return err
		}
		r.Damage = inspect.Hits(ctx, this, r.Differences, true)
	}
	after, err := lookAll(both)
	if err == nil && after != before {
		err = errors.New("somebody wrote to one of the disks while they were read: shut that down, then start again")
	}
	switch {
	case err != nil:
		return err
	case this.Size() != other.Size():
		return fmt.Errorf("%w: the disks have %s and %s", step.ErrNotProven, plan.Bytes(this.Size()), plan.Bytes(other.Size()))
	case r.Source.Fingerprint != r.Against:
		return fmt.Errorf("%w: the disks differ, in %s", step.ErrNotProven, ranges(r.Differences))
	}
	r.Outcome = receipt.Proven
	return nil
}

// lookAll is what changes when somebody writes to one of them.
func lookAll(all []watched) (state string, err error) {
	for _, w := range all {
		s, err := w.look()
		if err != nil {
			return "", err
		}
		state += s
	}
	return state, nil
}

// compared is the unit in which two disks are compared, in bytes.
const compared = 4096

// differing are the first ranges in which two disks differ, as far as both reach, where their leaves tell that something does.
func differing(ctx context.Context, a, b disk.Reader, leavesA, leavesB *fingerprint.Leaves) (out []fingerprint.Range, err error) {
	end := min(a.Size(), b.Size())
	x, y := make([]byte, fingerprint.LeafSize), make([]byte, fingerprint.LeafSize)
	for i := int64(0); i*fingerprint.LeafSize < end; i++ {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		off := i * fingerprint.LeafSize
		n := min(fingerprint.LeafSize, end-off)
		if n == fingerprint.LeafSize && leavesA.At(i) == leavesB.At(i) {
			continue
		}
		if got, err := a.ReadAt(x[:n], off); int64(got) < n {
			return nil, err
		}
		if got, err := b.ReadAt(y[:n], off); int64(got) < n {
			return nil, err
		}
		for at := int64(0); at < n; at += compared {
			to := min(at+compared, n)
			if bytes.Equal(x[at:to], y[at:to]) {
				continue
			}
			if last := len(out) - 1; last >= 0 && out[last].Offset+out[last].Length == off+at {
				out[last].Length += to - at
				continue
			}
			if len(out) == mostDifferences {
				return out, nil
			}
			out = append(out, fingerprint.Range{Offset: off + at, Length: to - at})
		}
	}
	return out, nil
}
