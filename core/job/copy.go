package job

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"golang.org/x/sync/errgroup"
)

// copies tells whether files are copied as they are.
func (w *work) copies() bool { return w.Plan.Request.Kind == plan.Copy }

// dir is the folder of the destination's pool that the files of the new image get their names in.
func (w *work) dir() string {
	if w.copies() {
		return w.Plan.Root
	}
	return path.Dir(path.Clean(w.Plan.Request.Destination.Path))
}

// format is what the destination is made by.
func (w *work) format() (disk.Format, error) {
	if w.copies() {
		return disk.Verbatim(w.verbatim(func(c plan.Copied) string { return c.To })), nil
	}
	return disk.Lookup(w.Plan.Request.As)
}

// verbatim are the files that are copied as they are, under the names of one side.
func (w *work) verbatim(name func(plan.Copied) string) (files []disk.VerbatimFile) {
	for _, c := range w.Plan.Copied {
		files = append(files, disk.VerbatimFile{Name: name(c), Size: c.Size, Thick: c.Thick})
	}
	return files
}

// content opens what is copied: the disk, or its files as they are.
func (w *work) content(ctx context.Context) (disk.Reader, error) {
	if w.copies() {
		return disk.OpenVerbatim(w.Ends.Source, w.verbatim(func(c plan.Copied) string { return c.From }))
	}
	from := w.Plan.Request.Source
	from.Format = w.Plan.Before.Format
	return open(ctx, w.Ends.Source, from)
}

// sized fails when a file is not as long as it was when the copy was planned.
func (w *work) sized() error {
	for _, c := range w.Plan.Copied {
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
	r := &w.receipt
	side := *w.Plan.After
	r.Destination = &Side{Side: side}
	if w.Plan.Request.NoProof {
		r.Outcome, r.Reason, r.Compared = Unproven, "the proof was left out on request", "nothing"
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
	r.Source.Fingerprint = sum.String()
	if !w.Plan.Request.NoProof {
		r.Destination.Fingerprint = r.Source.Fingerprint
	}
	return nil
}

// proveFiles has the host take checksums where it can, and reads everything back otherwise.
func (w *work) proveFiles(ctx context.Context, copied transfer.Result) error {
	r := &w.receipt
	r.Outcome = Proven
	if len(r.Unreadable) > 0 {
		r.Outcome, r.Reason = Damaged, fmt.Sprintf("%d range(s) of the source could not be read and are zeros in the copy; everything else is proven", len(r.Unreadable))
	}
	if s, ok := w.Ends.Destination.(storage.Summer); ok && s.Sums() && w.Plan.Sums && r.Outcome == Proven {
		var meter transfer.Meter
		return w.report.run(plan.StepProve, &meter, nil, func() error { return w.sums(ctx, s, &meter) })
	}
	made, err := w.openMade(ctx)
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
		return errNotAsWritten
	}
	return nil
}

var errNotAsWritten = fmt.Errorf("%w: what was read back differs from what was written; nothing was put in place. "+
	"Check the destination's drive and memory, then start again", ErrNotProven)

// sums compares the SHA-256 of each file, taken where it lies, at both ends at the same time.
func (w *work) sums(ctx context.Context, folder storage.Summer, meter *transfer.Meter) error {
	for _, c := range w.Plan.Copied {
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
		w.receipt.BytesCompared += c.Size
		w.receipt.Sums = append(w.receipt.Sums, FileSum{Name: c.To, SHA256: hex.EncodeToString(here[:])})
	}
	w.receipt.Compared = "the SHA-256 of each file with that of its copy, which the destination's host took with its own tool"
	return nil
}

// rewrite changes names of other files in those that were copied, where they got new ones, and opens what came along.
func (w *work) rewrite(ctx context.Context) error {
	folder := storage.Sub(w.Ends.Destination, w.staging())
	names := w.Plan.Names()
	for _, name := range slices.Sorted(maps.Keys(w.Plan.Rewrites)) {
		f, err := disk.Lookup(w.Plan.Rewrites[name])
		if err != nil {
			return err
		}
		changed, err := f.RenameIn(folder, name, names)
		if err != nil {
			return fmt.Errorf("changing the names of other files in %s: %w", name, err)
		}
		if changed {
			w.remark(fmt.Sprintf("in %s the names of other files were changed to the new ones; everything else in it is as it was", name))
		}
	}
	for _, k := range w.Plan.Family {
		i := slices.IndexFunc(w.Plan.Copied, func(c plan.Copied) bool { return c.From == k.Path })
		r, err := disk.Open(ctx, folder, w.Plan.Copied[i].To, k.Format)
		if err != nil {
			return fmt.Errorf("opening the copy of %s: %w", k.Path, err)
		}
		if err := r.Close(); err != nil {
			return err
		}
		w.remark(fmt.Sprintf("%s came along, and opens on what it stands on", k.Path))
	}
	for _, c := range w.Plan.Copied {
		if strings.HasSuffix(c.From, fingerprint.TagExtension) {
			if err := w.followTag(folder, c); err != nil {
				return fmt.Errorf("writing the tag %s: %w", c.To, err)
			}
		}
	}
	return nil
}

// followTag has the tag of a disk that came along speak of the copied files, when it fits to those that were copied.
func (w *work) followTag(folder storage.Folder, c plan.Copied) error {
	old, err := w.Ends.Source.Open(c.From)
	if err != nil {
		return err
	}
	defer old.Close()
	size, err := old.Size()
	if err != nil {
		return err
	}
	fits := true
	staged := c.To + ".new"
	if err := folder.Remove(staged); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return err
	}
	file, err := folder.Create(staged)
	if err != nil {
		return err
	}
	err = fingerprint.Refile(&appender{file: file}, io.NewSectionReader(old, 0, size), func(files []fingerprint.File) []fingerprint.File {
		fits = w.fitsFiles(files, path.Dir(c.From))
		for i, f := range files {
			info, err := folder.Stat(path.Join(path.Dir(c.To), f.Name))
			fits = fits && err == nil
			files[i].Size, files[i].Modified = info.Size, info.Modified
		}
		return files
	})
	fits = fits && !errors.Is(err, fingerprint.ErrTag)
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return err
	}
	if err != nil && fits {
		return err
	}
	if !fits { // then it is no better there
		return folder.Remove(staged)
	}
	err = folder.Exchange(staged, c.To)
	if errors.Is(err, errors.ErrUnsupported) {
		return errors.Join(folder.Remove(c.To), folder.Rename(staged, c.To))
	}
	return errors.Join(err, folder.Remove(staged))
}

// fitsFiles tells whether files that a tag in a folder of the source speaks of are what they were.
func (w *work) fitsFiles(files []fingerprint.File, dir string) bool {
	for _, f := range files {
		info, err := w.Ends.Source.Stat(path.Join(dir, f.Name))
		if err != nil || info.Size != f.Size || !sameTime(info.Modified, f.Modified) {
			return false
		}
	}
	return true
}

// diskLeaves are those of the disk, as a guest sees it: they are known from its tag, or from a plain file; otherwise the disk is read once
// more, from the end that is nearer. Nil where nobody asked for a proof and it is not known.
func (w *work) diskLeaves(ctx context.Context, copied transfer.Result) (*fingerprint.Leaves, error) {
	if len(w.Plan.Copied) == 1 && w.Plan.Before.Format == "raw" && w.Plan.Copied[0].Size == w.Plan.Before.VirtualSize {
		return copied.Leaves, nil
	}
	if tag := w.sourceTag(); tag != nil {
		w.remark("the fingerprint is that of the source's tag, which fits to its files")
		return tag.Leaves, nil
	}
	if w.Plan.Request.NoProof && w.Plan.Request.NoTag {
		return nil, nil
	}
	var src disk.Reader
	var err error
	if s, ok := w.Ends.Destination.(storage.Summer); ok && s.Sums() { // the destination is far
		from := w.Plan.Request.Source
		from.Format = w.Plan.Before.Format
		src, err = open(ctx, w.Ends.Source, from)
	} else {
		src, err = w.openCopy(ctx)
	}
	if err != nil {
		return nil, err
	}
	defer src.Close()
	var meter transfer.Meter
	result, err := transfer.Transfer{Source: src, Meter: &meter, Wait: w.Wait, PastDamage: w.Plan.Request.PastDamage}.Run(ctx)
	w.receipt.BytesRead += meter.Read.Load()
	w.receipt.Retries += meter.Retries.Load()
	return result.Leaves, err
}

// openCopy opens the copied image as the disk that it is, in the staging folder.
func (w *work) openCopy(ctx context.Context) (disk.Reader, error) {
	o := disk.Origin{Folder: storage.Fresh(w.Ends.Destination), Name: path.Join(w.staging(), w.inside(w.Plan.After.Place.Path))}
	if w.Plan.Request.Chain == plan.ChainAlone {
		o.Home = path.Dir(w.Plan.After.Place.Path)
	}
	r, err := o.Open(ctx, w.Plan.After.Format)
	if err != nil {
		return nil, destination(fmt.Errorf("opening the copy: %w", err))
	}
	return r, nil
}

// inside is a name in the folder of the new files.
func (w *work) inside(name string) string {
	if w.dir() == "." {
		return path.Clean(name)
	}
	return strings.TrimPrefix(path.Clean(name), w.dir()+"/")
}

// sourceTag is the tag beside the source, when it speaks of the files that are there.
func (w *work) sourceTag() *fingerprint.Tag {
	tag, err := readTag(w.Ends.Source, fingerprint.TagName(w.Plan.Before.Place.Path), w.Plan.Before.VirtualSize)
	if err != nil || tag.VirtualSize != w.Plan.Before.VirtualSize || !tag.Proven {
		return nil
	}
	if !w.fitsFiles(tag.Files, path.Dir(w.Plan.Before.Place.Path)) {
		return nil
	}
	return tag
}

// sameTime compares two times of a file; some storage keeps whole seconds only.
func sameTime(a, b time.Time) bool {
	if a.Nanosecond() == 0 || b.Nanosecond() == 0 {
		return a.Unix() == b.Unix()
	}
	return a.Equal(b)
}
