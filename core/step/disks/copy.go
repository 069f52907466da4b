package disks

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"golang.org/x/sync/errgroup"
)

// sized fails when a file is not as long as it was when the copy was planned.
func (w *work) sized() error {
	for _, c := range w.disk.Copied {
		info, err := w.Ends.Source.Stat(c.From)
		if err != nil {
			return err
		}
		if info.Size != c.Size {
			return fmt.Errorf("%s has %s, and had %s when the copy was planned: start again", c.From, plan.Bytes(info.Size), plan.Bytes(c.Size))
		}
	}
	return nil
}

// compareFiles proves the copied files, byte for byte, and takes the fingerprint of the disk.
func (w *work) compareFiles(ctx context.Context, copied transfer.Result) error {
	r := &w.proof
	side := *w.disk.After
	r.Destination = &receipt.Side{Side: side}
	if w.disk.Request.NoProof {
		r.Outcome, r.Reason, r.Compared = receipt.Unproven, "the proof was left out on request", "nothing"
	} else if !w.state.Compared { // from then on names in the files may be new
		if err := w.proveFiles(ctx, copied); err != nil {
			return err
		}
		w.state.Compared = true
		if err := w.keep(ctx, nil); err != nil {
			return err
		}
	}
	if err := w.rewrite(ctx); err != nil {
		return destination(err)
	}
	leaves, err := w.diskLeaves(ctx, copied)
	if err != nil || leaves == nil {
		return err
	}
	sum, err := leaves.Sum()
	if err != nil {
		return err
	}
	w.guest = leaves
	r.Source.Read(sum, receipt.FromContent)
	if !w.disk.Request.NoProof {
		r.Destination.Read(sum, receipt.FromFiles)
	}
	return w.known(ctx, leaves)
}

// proveFiles has the host take checksums where it can, and reads everything back otherwise.
func (w *work) proveFiles(ctx context.Context, copied transfer.Result) error {
	r := &w.proof
	r.Outcome = receipt.Proven
	if len(r.Unreadable) > 0 {
		r.Outcome, r.Reason = receipt.Damaged, fmt.Sprintf(
			"%d range(s) of the source could not be read and are zeros in the copy; everything else is proven",
			len(r.Unreadable),
		)
	}
	if s, ok := storage.As[storage.Summer](w.Ends.Destination); ok && s.Sums() && w.disk.Sums && r.Outcome == receipt.Proven {
		var meter transfer.Meter
		return w.report.Run(plan.StepProve, &meter, nil, func() error { return w.sums(ctx, s, &meter) })
	}
	made, err := w.carried().Made(ctx)
	if err != nil {
		return destination(fmt.Errorf("opening what was written: %w", err))
	}
	defer made.Close()
	back, err := w.readMade(ctx, made)
	if err != nil {
		return err
	}
	got, errGot := back.Leaves.Sum()
	want, errWant := copied.Leaves.Sum()
	if err := errors.Join(errGot, errWant); err != nil {
		return err
	}
	r.Compared = "every byte of the files with that of their copies, read back from storage"
	if got != want {
		r.Differences = fingerprint.Difference(copied.Leaves, back.Leaves, 20)
		r.Damage = inspect.Hits(ctx, made, r.Differences, false)
		return errNotAsWritten
	}
	return nil
}

var errNotAsWritten = fmt.Errorf("%w: what was read back differs from what was written; nothing was put in place. "+
	"Check the destination's drive and memory, then start again", step.ErrNotProven)

// sums compares the SHA-256 of each file, taken where it lies, at both ends at the same time.
func (w *work) sums(ctx context.Context, folder storage.Summer, meter *transfer.Meter) error {
	for _, c := range w.disk.Copied {
		var here, there [sha256.Size]byte
		both, ctx := errgroup.WithContext(ctx)
		both.Go(func() (err error) {
			there, err = folder.SHA256(ctx, path.Join(w.staging(), c.To))
			return destination(err)
		})
		both.Go(func() (err error) {
			here, err = storage.SHA256(ctx, w.Ends.Source, c.From, func(n int64) { meter.Read.Add(n) })
			if err != nil {
				err = fmt.Errorf("taking the SHA-256 of %s: %w", c.From, err)
			}
			return err
		})
		if err := both.Wait(); err != nil {
			return err
		}
		if here != there {
			return fmt.Errorf("%w (%s)", errNotAsWritten, c.To)
		}
		w.proof.BytesCompared += c.Size
		w.proof.Sums = append(w.proof.Sums, receipt.FileSum{Name: c.To, SHA256: hex.EncodeToString(here[:])})
	}
	w.proof.Compared = "the SHA-256 of each file with that of its copy, which the destination's host took with its own tool"
	return nil
}

// rewrite changes names of other files in those that were copied, where they got new ones, and opens what came along.
func (w *work) rewrite(ctx context.Context) error {
	folder := storage.Sub(w.Ends.Destination, w.staging())
	if err := w.changeNames(folder); err != nil {
		return err
	}
	err := w.opensFamily(func(name, format string) (disk.Reader, error) { return disk.Open(ctx, folder, name, format) })
	if err != nil {
		return err
	}
	return w.followTags(ctx, folder)
}

// fitsFiles tells whether files that a tag in a folder speaks of are what they were.
func fitsFiles(folder storage.Folder, files []fingerprint.File, dir string) bool {
	for _, f := range files {
		info, err := folder.Stat(path.Join(dir, f.Name))
		if err != nil || info.Size != f.Size || !sameTime(info.Modified, f.Modified) {
			return false
		}
	}
	return true
}

// diskLeaves are those of the disk, as a guest sees it: they are known from a plain file; otherwise the disk is read once more, from the
// end that is nearer. Nil where nobody asked for a proof or a tag, and nothing was known of the source.
func (w *work) diskLeaves(ctx context.Context, copied transfer.Result) (*fingerprint.Leaves, error) {
	if len(w.disk.Copied) == 1 && w.disk.Before.Format == "raw" && w.disk.Copied[0].Size == w.disk.Before.VirtualSize {
		return copied.Leaves, nil
	}
	if w.disk.Request.NoProof && w.disk.Request.NoTag {
		if tag, err := besideTag(w.Ends.Source, w.disk.Before.Place.Path, w.disk.Before.VirtualSize); err != nil || tag == nil {
			return nil, err
		}
	}
	var src disk.Reader
	var err error
	if s, ok := storage.As[storage.Summer](w.Ends.Destination); ok && s.Sums() { // the destination is far
		src, err = w.openSource(ctx, w.Ends.Source)
	} else {
		src, err = w.openCopy(ctx)
	}
	if err != nil {
		return nil, err
	}
	defer src.Close()
	return w.leavesOf(ctx, src)
}

// openCopy opens the copied image as the disk that it is, in the staging folder.
func (w *work) openCopy(ctx context.Context) (disk.Reader, error) {
	o := disk.Origin{Folder: storage.Fresh(w.Ends.Destination), Name: path.Join(w.staging(), w.inside(w.disk.After.Place.Path))}
	stays := slices.ContainsFunc(w.disk.Copied, func(c plan.Copied) bool { return c.Stays })
	if w.disk.Request.Chain == plan.ChainAlone || stays { // then its base is not in the staging folder
		o.Home = path.Dir(w.disk.After.Place.Path)
	}
	r, err := o.Open(ctx, w.disk.After.Format)
	if err != nil {
		return nil, destination(fmt.Errorf("opening the copy: %w", err))
	}
	return r, nil
}

// inside is a name in the folder of the new files.
func (w *work) inside(name string) string {
	return within(w.carried().Dir(), path.Clean(name))
}

// tagFits tells whether a tag speaks of the disk that a file opens as it is now. A disk of one file may have been called otherwise then.
func tagFits(folder storage.Folder, tag *fingerprint.Tag, name string) bool {
	files := slices.Clone(tag.Files)
	if len(files) == 1 {
		files[0].Name = path.Base(name)
	}
	if written, err := writtenTo(folder, name); err != nil || written != "" { // no time of it would tell
		return false
	}
	return fitsFiles(folder, files, path.Dir(name))
}

// sameTime compares two times of a file; some storage keeps whole seconds only.
func sameTime(a, b time.Time) bool {
	if a.Nanosecond() == 0 || b.Nanosecond() == 0 {
		return a.Unix() == b.Unix()
	}
	return a.Equal(b)
}
