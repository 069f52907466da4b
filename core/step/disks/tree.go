package disks

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"
)

// prepareTree looks at a folder that is carried as a whole and at where it goes, and makes the plan.
func prepareTree(ctx context.Context, ends step.Ends, r plan.Request, known step.Known) (plan.Plan, error) {
	if r.Kind != plan.Copy {
		return plan.Plan{}, fmt.Errorf("%w: a folder is copied or moved as it is, and becomes nothing else", plan.ErrRequest)
	}
	f := plan.TreeFacts{Source: known.SourceHost, Host: known.Host, Knowledge: known.Knowledge, Speeds: known.Speeds, Gives: true}
	var err error
	if f.Tree, err = lookThrough(ctx, ends.Source, r.Source.Path); err != nil {
		if ctx.Err() != nil {
			return plan.Plan{}, err
		}
		f.Problem = step.Explain(err)
		return plan.ForTree(r, f), nil
	}
	_, err = trees(ends.Destination)
	f.Takes = err == nil
	if o, ok := storage.As[storage.Owner](ends.Destination); ok {
		f.Gives = o.Gives("0:0")
	}
	if f.Space, err = ends.Destination.Space(); err == nil {
		if _, err = ends.Destination.Stat(r.Destination.Path); err == nil {
			f.Exists = true
		} else if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err != nil {
		f.Obstructed = step.Explain(err)
	}
	return plan.ForTree(r, f), nil
}

// trees are what carries folders of a storage as a whole.
func trees(f storage.Folder) (storage.Trees, error) {
	t, ok := storage.As[storage.Trees](f)
	if !ok {
		return nil, fmt.Errorf("the storage has no folders with owners and rights: %w", errors.ErrUnsupported)
	}
	return t, nil
}

// sizeOf is the length of a file, or of all files in a folder, and what it takes of the storage, in bytes. What cannot be looked through has what the
// folder itself has.
func sizeOf(ctx context.Context, in storage.Folder, info storage.Info) (size, room int64) {
	if info.IsDir {
		if is, err := lookThrough(ctx, in, info.Name); err == nil {
			return is.Size, is.Room
		}
	}
	return info.Size, info.Taken()
}

// openTree takes up what an earlier time left of a folder that is carried.
func (w *work) openTree(ctx context.Context) error {
	w.source = watched{w.Ends.Source, []string{w.disk.Before.Place.Path}}
	is, err := lookThrough(ctx, w.Ends.Source, w.disk.Before.Place.Path)
	if err != nil {
		return err
	}
	if err := w.takeUp(ctx, is.Seen, ""); err != nil {
		return err
	}
	return w.recheck(ctx, false)
}

// lookThrough looks through a folder.
func lookThrough(ctx context.Context, in storage.Folder, name string) (storage.Tree, error) {
	t, err := trees(in)
	if err != nil {
		return storage.Tree{}, err
	}
	return t.Tree(ctx, name)
}

// stagedTree is where the folder lies until it has its name.
func (w *work) stagedTree() string { return path.Join(w.staging(), path.Base(w.disk.After.Place.Path)) }

// fillTree makes the folder anew in the staging folder. It is begun anew where it was interrupted.
func (w *work) fillTree(ctx context.Context) error {
	from, fromErr := trees(w.Ends.Source)
	to, toErr := trees(w.Ends.Destination)
	if err := errors.Join(fromErr, toErr, destination(storage.RemoveAll(w.Ends.Destination, w.stagedTree()))); err != nil {
		return err
	}
	w.state.Files = []string{path.Base(w.disk.After.Place.Path)}
	if err := w.enter(ctx, plan.StepFill); err != nil {
		return err
	}
	var meter transfer.Meter
	err := w.report.Run(plan.StepFill, &meter, nil, func() (err error) {
		w.sent, err = w.streamTree(ctx, &meter, func(ctx context.Context, out io.Writer) error {
			return from.Pack(ctx, w.disk.Before.Place.Path, out, false)
		}, func(ctx context.Context, in io.Reader) error {
			return destination(to.Unpack(ctx, w.stagedTree(), in))
		})
		return err
	})
	if err != nil {
		return err
	}
	w.proof.BytesRead += w.sent.Size()
	w.proof.BytesWritten += w.sent.Size()
	w.state.Tree = w.sent.String()
	r := &w.proof.Source
	now := time.Now()
	r.Fingerprint, r.FingerprintFrom, r.FingerprintAt = w.state.Tree, receipt.FromFolder, &now
	return nil
}

// streamTree has an archive go from whoever packs it to whoever takes it, and reads it on its way. Where one of both fails the other is stopped.
func (w *work) streamTree(
	ctx context.Context,
	meter *transfer.Meter,
	pack func(context.Context, io.Writer) error,
	take func(context.Context, io.Reader) error,
) (*fingerprint.Tree, error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	failed := func(err error) error { // the first one says why
		if err != nil {
			stop(err)
		}
		return err
	}
	out, in := io.Pipe()
	taken, takes := io.Pipe()
	var both sync.WaitGroup
	both.Go(func() { _ = in.CloseWithError(failed(pack(ctx, in))) })       // whoever reads has it
	both.Go(func() { _ = taken.CloseWithError(failed(take(ctx, taken))) }) // and whoever writes
	t, err := fingerprint.ReadTree(io.TeeReader(metered{ctx, w, out, meter}, takes))
	_, _ = takes.CloseWithError(failed(err)), out.CloseWithError(err) // nil is the end
	both.Wait()
	return t, context.Cause(ctx)
}

// metered counts what is read, and keeps to the limits.
type metered struct {
	ctx   context.Context
	w     *work
	from  io.Reader
	meter *transfer.Meter
}

func (m metered) Read(p []byte) (int, error) {
	n, err := m.from.Read(p)
	m.meter.Read.Add(int64(n))
	if m.w.Wait != nil && n > 0 && err == nil {
		err = m.w.Wait(m.ctx, int64(n))
	}
	return n, err
}

// proveTree reads the folder back and compares it with what was read of the source, which has to be the same still.
func (w *work) proveTree(ctx context.Context) error {
	to, err := trees(w.Ends.Destination)
	if err != nil {
		return err
	}
	made, err := to.Tree(ctx, w.stagedTree())
	if err != nil {
		return destination(err)
	}
	var meter transfer.Meter
	var back *fingerprint.Tree
	err = w.report.Run(plan.StepProve, &meter, nil, func() (err error) {
		back, err = w.streamTree(ctx, &meter, func(ctx context.Context, out io.Writer) error {
			return destination(to.Pack(ctx, w.stagedTree(), out, true))
		}, func(_ context.Context, in io.Reader) error {
			_, err := io.Copy(io.Discard, in)
			return err
		})
		return err
	})
	if err != nil {
		return err
	}
	r := &w.proof
	r.BytesCompared += back.Size()
	r.Destination = &receipt.Side{Side: *w.disk.After}
	r.Destination.VirtualSize, r.Destination.FileSize, r.Destination.AllocatedSize = made.Size, made.Size, made.Room
	now := time.Now()
	r.Destination.Fingerprint, r.Destination.FingerprintFrom, r.Destination.FingerprintAt = back.String(), receipt.FromFolder, &now
	r.Compared = "each name, owner, right, time, link, extended attribute and content of the folder as it was read with what was read back from storage"
	if back.String() != w.state.Tree {
		names := "begin again to learn which names differ"
		if w.sent != nil {
			names = "different are " + strings.Join(w.sent.Differing(back, 5), ", ")
		}
		return fmt.Errorf("%w: the folder that was made is not the one that was read; %s", step.ErrNotProven, names)
	}
	if err := w.treeStill(ctx); err != nil {
		return err
	}
	w.state.Made = made.Seen
	r.Outcome = receipt.Proven
	w.remark(fmt.Sprintf("%d files, folders and links", back.Entries()-1))
	return nil
}

// treeStill fails where something was written in the source since it was read.
func (w *work) treeStill(ctx context.Context) error {
	now, err := lookThrough(ctx, w.Ends.Source, w.disk.Before.Place.Path)
	if err == nil && now.Seen != w.state.Source {
		err = fmt.Errorf(
			"%w: something in %s was changed since it was read; stop what writes there, and begin again",
			errWritten,
			w.disk.Before.Place,
		)
	}
	return err
}
