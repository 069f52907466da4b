package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/fit"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"
)

// saved is how much is saved at each end of a disk that is written over, in bytes: tables and boot code lie there.
const saved = 1 << 20

// lookAtDevice gathers what is known of a disk that is to be written over.
func lookAtDevice(ends step.Ends, r plan.Request, src disk.Reader) (*plan.DeviceFacts, error) {
	f := &plan.DeviceFacts{}
	on, ok := storage.As[interface {
		Device(name string) (blocks.Seen, error)
	}](ends.Destination)
	if !ok {
		f.Problem = errors.New("it is no disk of a computer")
		return f, nil
	}
	seen, err := on.Device(r.Destination.Path)
	if err != nil {
		f.Problem = step.Explain(err)
		return f, nil
	}
	f.Device = seen.Device
	info, err := ends.Destination.Stat(r.Destination.Path)
	if err != nil {
		return nil, err
	}
	f.ID = info.ID
	for _, p := range seen.Partitions {
		if p.Filesystem == "" {
			continue
		}
		what := fmt.Sprintf("partition %d (%s)", p.Number, p.Filesystem)
		if p.Label != "" {
			what = fmt.Sprintf("partition %d (%s, %q)", p.Number, p.Filesystem, p.Label)
		}
		if p.Used >= 0 {
			what += ", with " + plan.Bytes(p.Used)
		}
		f.On = append(f.On, what)
	}
	if _, ok := storage.As[storage.Overwriter](ends.Destination); !ok {
		f.Problem = errors.New("only disks of the computer that the service runs on are written over")
	}
	f.Table, f.Untabled = tabled(src, f.Size)
	return f, nil
}

// tabled is the image as it has to be so that its partition table reaches to the end of a larger disk, nil where nothing has to be done for that.
func tabled(src disk.Reader, size int64) (*fit.Layout, error) {
	c, err := inspect.Inside(src)
	if err != nil || c.Table != "gpt" || len(c.Partitions) == 0 || size <= src.Size() {
		return nil, nil
	}
	l, err := fit.Compute(src.Size(), c, nil, fit.Wish{Size: size, Grow: fit.GrowNone}, fit.Able)
	if err != nil {
		return nil, err
	}
	if _, err := fit.Open(src, l, nil); err != nil { // it can be written
		return nil, err
	}
	return &l, nil
}

// openDevice opens the image, and finds what an earlier time did. The disk itself is opened only while it is written to.
func (w *work) openDevice(ctx context.Context, source string) (err error) {
	var old State
	known, err := w.Log.Load(&old)
	if err != nil {
		return err
	}
	w.state = State{Source: source}
	if known {
		if old.Source != source {
			return errChanged
		}
		w.state, w.proof = old, old.Receipt
		w.proof.Resumed++
	}
	if err := w.isSameDevice(); err != nil {
		return err
	}
	if w.src, err = w.openSource(ctx, w.Ends.Source); err != nil {
		return err
	}
	w.strip = transfer.NewStrip(w.src.Size())
	w.report.Strip = w.strip
	w.proof.Destination = &receipt.Side{Side: *w.disk.After}
	return nil
}

// isSameDevice fails where another disk has the name now.
func (w *work) isSameDevice() error {
	info, err := w.Ends.Destination.Stat(w.disk.After.Place.Path)
	if err == nil && info.ID != w.disk.Device {
		err = &step.BlockedError{Check: AnotherDisk(w.disk.After.Place)}
	}
	return err
}

// device opens the disk for writing, for this work alone. That it is the right one is looked at once it is open: its name is given to no other then.
func (w *work) device() (storage.File, error) {
	o, ok := storage.As[storage.Overwriter](w.Ends.Destination)
	if !ok {
		return nil, fmt.Errorf("writing over %s: %w", w.disk.After.Place, errors.ErrUnsupported)
	}
	file, err := o.Overwrite(w.disk.After.Place.Path)
	if err != nil {
		return nil, destination(err)
	}
	if err := w.isSameDevice(); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// save saves what the ends of the disk held. It is done once: what an interrupted time wrote is not saved.
func (w *work) save(ctx context.Context) error {
	if w.state.Saved {
		return nil
	}
	return w.report.Run(plan.StepSave, nil, nil, func() (err error) {
		file, err := w.device()
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, file.Close()) }()
		if err := os.MkdirAll(w.Ends.Saved, 0o700); err != nil {
			return fmt.Errorf("making the folder for what is saved: %w", err)
		}
		size, n := w.disk.After.VirtualSize, min(saved, w.disk.After.VirtualSize)
		stem := filepath.Join(w.Ends.Saved, w.disk.After.Place.Path+"-"+time.Now().UTC().Format("20060102-150405")+"-"+w.ID)
		for end, off := range map[string]int64{".first": 0, ".last": size - n} {
			b := make([]byte, n)
			if _, err := file.ReadAt(b, off); err != nil {
				return destination(fmt.Errorf("reading what it holds at offset %d: %w", off, err))
			}
			if err := local.WriteFile(stem+end, b); err != nil {
				return fmt.Errorf("saving what it holds: %w", err)
			}
		}
		w.remark(fmt.Sprintf("what the first and the last MiB of the disk held is saved in %s and %s", stem+".first", stem+".last"))
		w.state.Saved = true
		return w.enter(ctx, plan.StepSave)
	})
}

// overwriting is a disk that is written over, as far as the image reaches.
type overwriting struct{ storage.File }

// Zero writes zeros: what was there would show otherwise.
func (o overwriting) Zero(off, n int64) error {
	b := make([]byte, min(n, 4<<20))
	for done := int64(0); done < n; {
		part := b[:min(int64(len(b)), n-done)]
		if _, err := o.WriteAt(part, off+done); err != nil {
			return err
		}
		done += int64(len(part))
	}
	return nil
}

func (o overwriting) Commit(context.Context) error { return o.Sync() }
func (o overwriting) Checkpoint() error            { return o.Sync() }
func (o overwriting) Files() []string              { return nil }

// overwrite writes the image onto the disk. After an interruption it begins anew, and writes what is not the same there.
func (w *work) overwrite(ctx context.Context) (err error) {
	again := w.Log.IsAt(plan.StepOverwrite)
	if err := w.enter(ctx, plan.StepOverwrite); err != nil {
		return err
	}
	file, err := w.device()
	if err != nil {
		return err
	}
	o := overwriting{file}
	defer func() { err = errors.Join(err, o.Close()) }()
	t := transfer.Transfer{Source: w.src, Destination: o, Over: true}
	if w.disk.Request.DifferingOnly || again {
		t.Base = onDevice{file, w.src.Size(), w.disk.After.Place.Path}
	}
	w.copied, err = w.transfer(ctx, plan.StepOverwrite, t)
	if err != nil {
		return fmt.Errorf("the disk is written over in part, and is no whole one: %w", err)
	}
	if same, err := w.unchanged(ctx, w.src, w.copied); err != nil || !same {
		return errors.Join(err, errChanged)
	}
	return destination(o.Sync())
}

// readDevice reads the disk, past what the system remembers of it, and compares.
func (w *work) readDevice(ctx context.Context) (err error) {
	if w.copied.Leaves == nil { // an earlier time wrote it
		if w.copied.Leaves, err = w.leavesOf(ctx, w.src); err != nil {
			return err
		}
	}
	r := &w.proof
	sum, err := w.copied.Leaves.Sum()
	if err != nil {
		return err
	}
	r.Source.Read(sum, receipt.FromContent)
	if err := w.known(ctx, w.copied.Leaves); err != nil {
		return err
	}
	if w.disk.Request.NoProof {
		r.Outcome, r.Reason, r.Compared = receipt.Unproven, "the proof was left out on request", "nothing"
		return nil
	}
	file, err := w.Ends.Destination.Open(w.disk.After.Place.Path)
	if err != nil {
		return destination(err)
	}
	back := onDevice{file, w.src.Size(), w.disk.After.Place.Path}
	defer func() { err = errors.Join(err, back.Close()) }()
	if err := w.isSameDevice(); err != nil {
		return err
	}
	if err := w.enter(ctx, plan.StepReadBack); err != nil {
		return err
	}
	read, err := w.read(ctx, plan.StepReadBack, back, "the disk", nil)
	if err != nil {
		return destination(err)
	}
	return w.isOnDevice(ctx, read)
}

func (w *work) isOnDevice(ctx context.Context, read transfer.Result) error {
	r := &w.proof
	got, err := read.Leaves.Sum()
	if err != nil {
		return err
	}
	r.Destination.Read(got, receipt.FromContent)
	r.Compared = "the fingerprint of the image with that of the disk, as far as the image reaches, read back from it"
	if r.Destination.Fingerprint != r.Source.Fingerprint {
		r.Differences = fingerprint.Difference(w.copied.Leaves, read.Leaves, mostDifferences)
		r.Damage = inspect.Hits(ctx, w.src, r.Differences, false)
		return errNotAsWritten
	}
	r.Outcome = receipt.Proven
	return nil
}

// onDevice is the content of a disk as far as an image reaches.
type onDevice struct {
	storage.File
	size int64
	name string
}

func (d onDevice) Size() int64 { return d.size }
func (d onDevice) Extent(off int64) (disk.Extent, error) {
	return disk.Extent{Off: off, Len: d.size - off, Kind: disk.Data}, nil
}
func (d onDevice) Describe() disk.Description {
	return disk.Description{Format: "raw", Layout: "thick", VirtualSize: d.size, Files: []string{d.name}, Chain: []string{}}
}

// moveTable has the partition table reach to the end of the disk: what the image has of it is written anew, and read again.
func (w *work) moveTable(ctx context.Context) error {
	if err := w.enter(ctx, plan.StepTable); err != nil {
		return err
	}
	return w.report.Run(plan.StepTable, nil, nil, func() (err error) {
		want, err := fit.Open(w.src, *w.disk.Fit, nil)
		if err != nil {
			return err
		}
		file, err := w.device()
		if err != nil {
			return err
		}
		ranges := w.disk.Fit.Tables()
		for _, r := range ranges {
			b := make([]byte, r.Length)
			if _, err = want.ReadAt(b, r.Offset); err == nil {
				_, err = file.WriteAt(b, r.Offset)
			}
			if err != nil {
				return errors.Join(err, file.Close())
			}
		}
		if err := errors.Join(file.Sync(), file.Close()); err != nil {
			return destination(err)
		}
		back, err := w.Ends.Destination.Open(w.disk.After.Place.Path)
		if err != nil {
			return destination(err)
		}
		defer func() { err = errors.Join(err, back.Close()) }()
		for _, r := range ranges {
			a, b := make([]byte, r.Length), make([]byte, r.Length)
			if _, err := want.ReadAt(a, r.Offset); err != nil {
				return err
			}
			if _, err := back.ReadAt(b, r.Offset); err != nil && !errors.Is(err, io.EOF) {
				return destination(err)
			}
			if !bytes.Equal(a, b) {
				return fmt.Errorf("%w: the partition table on the disk is not what was written", errNotAsWritten)
			}
		}
		w.remark(
			"the partition table reaches to the end of the disk now, which is larger than the image; it was read back. That is behind the proof: the disk " +
				"has another fingerprint than the image since",
		)
		return nil
	})
}
