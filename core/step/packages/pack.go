package packages

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/machine"
	"bagaglio/core/machine/ovf"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
	"bagaglio/core/transfer"

	"github.com/google/uuid"
)

// box is what a package is written into: a folder, or an archive.
type box interface {
	// into is a folder in which one disk is made, and file what came of it.
	into() storage.Folder
	file(name string) (storage.File, error)
	// finish puts the small files there, whose lengths were told before, and ends it.
	finish(envelope, manifest []byte) error
	names() []string // of what lies in the staging folder, what makes it a package last
	close() error
}

// lengths are the most that the envelope and the manifest can have, in bytes, which stand at the beginning of an archive though they are known last.
func (w *work) lengths() (envelope, manifest int, err error) {
	var files []ovf.File
	sums := []ovf.Sum{{File: w.body.Name + ovf.Extension, Algorithm: "SHA256", Digest: make([]byte, sha256.Size)}}
	for _, d := range w.body.Disks {
		files = append(files, ovf.File{Name: d.Name, Size: 1 << 62, Capacity: d.Size, Format: d.As, Layout: d.Layout})
		sums = append(sums, ovf.Sum{File: d.Name, Algorithm: "SHA256", Digest: make([]byte, sha256.Size)})
	}
	text, err := ovf.Write(w.body.Machine, files)
	return len(text), len(ovf.WriteManifest(sums)), err
}

// pack writes all of it into the staging folder, anew: what an earlier time left is dropped.
func (w *work) pack(ctx context.Context) error {
	if err := destination(w.Clear()); err != nil {
		return err
	}
	meter := &transfer.Meter{}
	return w.report.Run(plan.StepPack, meter, nil, func() (err error) {
		w.state.Files, w.state.Fingerprints, w.state.Seen, w.state.Receipt.Parts = nil, nil, nil, nil
		if err := w.Log.Enter(ctx, plan.StepPack, w.state); err != nil {
			return err
		}
		b, err := w.open()
		if err != nil {
			return destination(err)
		}
		defer func() { err = errors.Join(err, b.close()) }()
		var files []ovf.File
		sums := []ovf.Sum{}
		for _, d := range w.body.Disks {
			f, sum, err := w.packDisk(ctx, b, d, meter)
			if err = errors.Join(err, destination(disks.CloseOurs(w.Ends.Destination))); err != nil {
				return err
			}
			files, sums = append(files, f), append(sums, sum)
		}
		envelope, err := ovf.Write(w.body.Machine, files)
		if err != nil {
			return err
		}
		digest := sha256.Sum256(envelope)
		sums = append([]ovf.Sum{{File: w.body.Name + ovf.Extension, Algorithm: "SHA256", Digest: digest[:]}}, sums...)
		if envelope, err = w.padded(envelope, sums); err != nil {
			return err
		}
		if err := b.finish(envelope, ovf.WriteManifest(sums)); err != nil {
			return destination(err)
		}
		w.state.Files = b.names()
		return destination(w.Ends.Destination.Sync(w.staging()))
	})
}

// padded is the envelope as long as was told before where that is an archive, with lines that are empty at its end, and with its digest in the manifest.
func (w *work) padded(envelope []byte, sums []ovf.Sum) ([]byte, error) {
	if !w.body.Archive {
		return envelope, nil
	}
	length, _, err := w.lengths()
	if err != nil {
		return nil, err
	}
	for len(envelope) < length {
		envelope = append(envelope, '\n')
	}
	digest := sha256.Sum256(envelope)
	sums[0].Digest = digest[:]
	return envelope, nil
}

// packDisk writes a disk, and reads its file for the manifest.
func (w *work) packDisk(ctx context.Context, b box, d plan.PackedDisk, meter *transfer.Meter) (f ovf.File, sum ovf.Sum, err error) {
	src, err := w.source(ctx, d)
	if err != nil {
		return f, sum, err
	}
	defer src.Close()
	seen, err := w.look(src, d)
	if err != nil {
		return f, sum, err
	}
	w.state.Seen = append(w.state.Seen, seen)
	format, err := disk.Lookup(d.As)
	if err != nil {
		return f, sum, err
	}
	dst, err := format.Create(disk.Target{
		Folder: b.into(), Name: d.Name, Size: d.Size, Layout: d.Layout, Identifier: uuid.New(), Created: time.Now(),
	})
	if err != nil {
		return f, sum, destination(err)
	}
	result, err := transfer.Transfer{Source: src, Destination: dst, Meter: meter, Wait: w.Wait}.Run(ctx)
	if err == nil {
		err = destination(dst.Commit(ctx))
	}
	if err = errors.Join(err, dst.Close()); err != nil {
		return f, sum, err
	}
	print, err := result.Leaves.Sum()
	if err != nil {
		return f, sum, err
	}
	w.state.Fingerprints = append(w.state.Fingerprints, print.String())
	r := &w.state.Receipt
	r.BytesRead, r.BytesWritten = meter.Read.Load(), meter.Written.Load() // of all so far
	part := receipt.Receipt{Source: receipt.Side{Side: plan.Side{Place: d.Source, Format: d.Format, Layout: d.Was, VirtualSize: d.Size}}}
	part.Source.Read(print, receipt.FromContent)
	r.Parts = append(r.Parts, part)
	file, err := b.file(d.Name)
	if err != nil {
		return f, sum, destination(err)
	}
	size, err := file.Size()
	if err != nil {
		return f, sum, destination(err)
	}
	digest := sha256.New()
	_, err = io.CopyBuffer(digest, cancelled{ctx, io.NewSectionReader(file, 0, size)}, make([]byte, 1<<20))
	if err = errors.Join(err, file.Close()); err != nil {
		return f, sum, destination(err)
	}
	return ovf.File{Name: d.Name, Size: size, Capacity: d.Size, Format: d.As, Layout: d.Layout},
		ovf.Sum{File: d.Name, Algorithm: "SHA256", Digest: digest.Sum(nil)}, nil
}

// cancelled is a reader that ends with a context.
type cancelled struct {
	ctx context.Context
	r   io.Reader
}

func (c cancelled) Read(p []byte) (int, error) {
	if c.ctx.Err() != nil {
		return 0, context.Cause(c.ctx)
	}
	return c.r.Read(p)
}

// source opens a disk of the machine, which nobody may use but a machine that the job has suspended.
func (w *work) source(ctx context.Context, d plan.PackedDisk) (disk.Reader, error) {
	folder := w.Ends.Pools[d.Source.Pool]
	if folder == nil {
		return nil, fmt.Errorf("the pool %s is not known any more", d.Source.Pool)
	}
	r, err := disk.Open(ctx, folder, d.Source.Path, d.Format)
	if err != nil {
		return nil, err
	}
	u, ok := storage.As[storage.Usage](folder)
	for _, name := range r.Describe().Files {
		if !ok {
			break
		}
		why, err := u.InUse(name)
		if err == nil && why != "" {
			err = &step.BlockedError{Check: plan.SourceInUse(fmt.Errorf("%s: %w: %s", name, step.ErrInUse, why))}
		}
		if err != nil {
			return nil, errors.Join(err, r.Close())
		}
	}
	return r, nil
}

// reread reads the package back from storage, and compares.
func (w *work) reread(ctx context.Context) error {
	meter := &transfer.Meter{}
	return w.report.Run(plan.StepReread, meter, nil, func() error {
		if err := w.Log.Enter(ctx, plan.StepReread, w.state); err != nil {
			return err
		}
		w.state.Receipt.BytesCompared = 0
		folder, dir, err := w.made()
		if err != nil {
			return destination(err)
		}
		at := path.Join(dir, w.body.Name+ovf.Extension)
		sums, err := ovf.Manifest(folder, at)
		if err != nil {
			return destination(fmt.Errorf("reading the manifest back: %w", err))
		}
		for _, s := range sums {
			if err := s.Check(ctx, folder, dir, func(n int) { w.state.Receipt.BytesCompared += int64(n) }); err != nil {
				return destination(fmt.Errorf("%w: %w", step.ErrNotProven, err))
			}
		}
		text, err := machine.Text(folder, at)
		if err != nil {
			return destination(err)
		}
		is, err := machine.Describe("ovf", text)
		if err != nil || len(is.Disks) != len(w.body.Disks) {
			return destination(fmt.Errorf("%w: the envelope has %d disks, and not %d: %w", step.ErrNotProven, len(is.Disks), len(w.body.Disks), err))
		}
		for i, d := range w.body.Disks {
			if err := w.rereadDisk(ctx, folder, path.Join(dir, is.Disks[i].File), d, i, meter); err != nil {
				return destination(err)
			}
		}
		if err := w.still(ctx); err != nil {
			return err
		}
		r := &w.state.Receipt
		r.Outcome = receipt.Proven
		r.Compared = "the fingerprint of each disk with that in the package, read back from storage; the SHA-256 of each file there with the manifest"
		return nil
	})
}

// look is what the storage tells of the files of a disk, which changes when somebody writes to one.
func (w *work) look(r disk.Reader, d plan.PackedDisk) (string, error) {
	folder, is := w.Ends.Pools[d.Source.Pool], r.Describe()
	counter, counts := storage.As[storage.WriteCounter](folder)
	var all strings.Builder
	for _, name := range slices.Concat(is.Files, is.Chain) {
		info, err := folder.Stat(name)
		if err != nil {
			return "", err
		}
		written := ""
		if counts {
			if written, err = counter.Written(name); err != nil && !errors.Is(err, errors.ErrUnsupported) {
				return "", err
			}
		}
		_, _ = fmt.Fprintln(&all, name, info.ID, info.Size, info.Modified.UnixNano(), written) // a strings.Builder takes everything
	}
	return all.String(), nil
}

// still fails where somebody has written to a disk since it was read.
func (w *work) still(ctx context.Context) error {
	for i, d := range w.body.Disks {
		r, err := w.source(ctx, d)
		if err != nil {
			return err
		}
		seen, err := w.look(r, d)
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
		if seen != w.state.Seen[i] {
			return fmt.Errorf("%s was written to while it was packed: start again", d.Source)
		}
	}
	return nil
}

// made is the package in the staging folder, read from storage, and the folder in it that its files lie in.
func (w *work) made() (storage.Folder, string, error) {
	fresh := storage.Fresh(w.Ends.Destination)
	if !w.body.Archive {
		return fresh, w.staging(), nil
	}
	name := path.Join(w.staging(), path.Base(w.body.Into.Path))
	folder, err := archive.Open(fresh, name)
	return folder, name, err
}

func (w *work) rereadDisk(ctx context.Context, folder storage.Folder, name string, d plan.PackedDisk, i int, meter *transfer.Meter) error {
	made, err := disk.Open(ctx, folder, name, d.As)
	if err != nil {
		return err
	}
	defer made.Close()
	result, err := transfer.Transfer{Source: made, Meter: meter, Wait: w.Wait}.Run(ctx)
	if err != nil {
		return err
	}
	print, err := result.Leaves.Sum()
	if err != nil {
		return err
	}
	want, err := fingerprint.Parse(w.state.Fingerprints[i])
	if err != nil {
		return err
	}
	if print != want {
		return fmt.Errorf("%w: the disk %s in the package has the fingerprint %s, and the source %s", step.ErrNotProven, d.Name, print, want)
	}
	w.state.Receipt.Parts[i].Outcome = receipt.Proven
	return nil
}

func destination(err error) error {
	if err == nil {
		return nil
	}
	return &transfer.DestinationError{Err: err}
}
