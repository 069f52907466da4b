package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"bagaglio/core/carry"
	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/salvage"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/transfer"
)

// mapFile is the map of what was read of a disk that fails, beside what was read.
const mapFile = "salvaged" + salvage.Extension

// mapEvery is how often it is kept how far a disk that fails was read.
const mapEvery = 10 * time.Second

// dying is which disk is read, in words: the same one, also when it was unplugged, where it tells a serial number.
func (w *work) dying() string {
	info, err := w.Ends.Source.Stat(w.disk.Before.Place.Path)
	if err != nil {
		return w.disk.Before.Place.String()
	}
	return fmt.Sprintf("%s, %d bytes", info.ID, w.disk.Before.VirtualSize)
}

func (w *work) dyingID() string {
	for _, u := range w.uses() { // as it was planned with: it may be unplugged by now
		if u.ID != "" && !u.Writes {
			return heldID(fmt.Sprintf("%s, %d bytes", u.ID, w.disk.Before.VirtualSize))
		}
	}
	return heldID(w.dying())
}

// salvage reads what can be read of a disk that fails, behind what an earlier time read.
func (w *work) salvage(ctx context.Context) (err error) {
	dir := w.changed()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("making the folder for what is read: %w", err)
	}
	out, err := os.OpenFile(filepath.Join(dir, carry.Salvaged), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("making the file for what is read: %w", err)
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if err := out.Truncate(w.real.Size()); err != nil {
		return err
	}
	m, err := mapOf(filepath.Join(dir, mapFile), salvage.Map{Disk: w.dying(), Size: w.real.Size()})
	if err != nil {
		return err
	}
	if len(m.Runs) > 0 {
		w.remark("it went on from what an earlier time had read of the disk")
	}
	for _, r := range m.Untried(0, m.Size) { // which an earlier time may have written without noting it
		if err := local.Discard(out, r.Offset, r.Length); err != nil {
			return fmt.Errorf("clearing up the folder for what is read: %w", err)
		}
	}
	wanted, err := salvage.Wanted(ctx, w.real)
	if err != nil {
		return err
	}
	if err := w.enter(ctx, plan.StepSalvage); err != nil {
		return err
	}
	var meter transfer.Meter
	err = w.report.Run(plan.StepSalvage, &meter, nil, func() error {
		if err := w.seed(ctx, out, m, wanted); err != nil {
			return err
		}
		s := salvage.Salvage{
			Source: w.real,
			Out:    out,
			Map:    m,
			Wait:   w.Wait,
			Tell:   func(n int64) { meter.Read.Add(n) },
			Every:  mapEvery,
			Keep:   func() error { return keepMap(out, m, dir) },
		}
		if f, ok := storage.As[interface {
			Smallest(name string) (int64, error)
		}](w.Ends.Source); ok {
			if s.Sector, err = f.Smallest(w.disk.Before.Place.Path); err != nil {
				return err
			}
		}
		return s.Run(ctx)
	})
	w.proof.BytesRead += meter.Read.Load()
	if err != nil {
		w.remark("what was read so far stays: a later capture of the same disk goes on from there")
		return fmt.Errorf("reading the disk: %w", err)
	}
	w.proof.Unreadable = m.Within(wanted).In(salvage.Bad)
	w.state.Salvaged = true
	return w.openCarried(ctx)
}

// mapOf is the map that an earlier time left of a disk, or a new one.
func mapOf(name string, of salvage.Map) (*salvage.Map, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return &of, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	old, err := salvage.Parse(f)
	if err != nil {
		return nil, fmt.Errorf("reading how far the disk was read (%s): %w", name, err)
	}
	if old.Disk != of.Disk || old.Size != of.Size {
		return nil, fmt.Errorf("%s is of another disk (%s): remove it", name, old.Disk)
	}
	return old, nil
}

// keepMap has what was read on stable storage before the map says so.
func keepMap(out *os.File, m *salvage.Map, dir string) error {
	if err := out.Sync(); err != nil {
		return err
	}
	var b bytes.Buffer
	if _, err := m.WriteTo(&b); err != nil {
		return err
	}
	return local.WriteFile(filepath.Join(dir, mapFile), b.Bytes())
}

// seed takes over what an earlier image has by the map beside it, of what is wanted. That image has to be what it was when its map was made.
func (w *work) seed(ctx context.Context, out io.WriterAt, m *salvage.Map, wanted []fingerprint.Range) error {
	name := w.disk.Request.GoOnFrom
	if name == "" || len(m.Runs) > 0 {
		return nil
	}
	file, err := w.Ends.Destination.Open(name + salvage.Extension)
	if err != nil {
		return destination(fmt.Errorf("opening the map of the earlier image: %w", err))
	}
	size, err := file.Size()
	if err != nil {
		return destination(errors.Join(err, file.Close()))
	}
	old, err := salvage.Parse(io.NewSectionReader(file, 0, size))
	if err = errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("reading the map of the earlier image: %w", err)
	}
	if old.Disk != m.Disk || old.Size != m.Size {
		return fmt.Errorf("%w: %s is an image of another disk (%s)", plan.ErrRequest, name, old.Disk)
	}
	image, err := disk.Open(ctx, storage.Fresh(w.Ends.Destination), name, "")
	if err != nil {
		return destination(fmt.Errorf("opening the earlier image: %w", err))
	}
	defer image.Close()
	leaves, err := w.leavesOf(ctx, image)
	if err != nil {
		return destination(fmt.Errorf("reading the earlier image: %w", err))
	}
	sum, err := leaves.Sum()
	if err != nil {
		return err
	}
	if sum.String() != old.Image {
		return fmt.Errorf("%w: %s is not what it was when its map was made: capture the disk without it", plan.ErrRequest, name)
	}
	b := make([]byte, 1<<20)
	for _, r := range old.Within(wanted).In(salvage.Read) {
		for off := r.Offset; off < r.Offset+r.Length; {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			n := min(int64(len(b)), r.Offset+r.Length-off)
			if got, err := image.ReadAt(b[:n], off); int64(got) < n {
				return destination(fmt.Errorf("reading the earlier image at offset %d: %w", off, err))
			}
			if _, err := out.WriteAt(b[:n], off); err != nil {
				return err
			}
			off += n
		}
		m.Set(r.Offset, r.Length, salvage.Read)
	}
	w.doubt(fmt.Sprintf("what %s has of the disk was taken from that image, and not read again", name))
	return nil
}

// makeMap puts the map of a disk that failed beside its image, so that a later time can go on from there. It says what the image has, which may be less
// than what was read. leaves are those of the image.
func (w *work) makeMap(ctx context.Context, leaves *fingerprint.Leaves) error {
	if !w.disk.Request.Dying {
		return nil
	}
	m, err := mapOf(filepath.Join(w.changed(), mapFile), salvage.Map{Disk: w.dying(), Size: w.real.Size()})
	if err != nil {
		return err
	}
	wanted, err := salvage.Wanted(ctx, w.real)
	if err != nil {
		return err
	}
	for _, r := range wanted {
		if len(m.Untried(r.Offset, r.Length)) > 0 {
			return errors.New(
				"the disk tells other partitions or filesystems than when it was read: capture it again, which goes on from what was read",
			)
		}
	}
	m = m.Within(wanted)
	sum, err := leaves.Sum()
	if err != nil {
		return err
	}
	m.Image = sum.String()
	var b bytes.Buffer
	if _, err := m.WriteTo(&b); err != nil {
		return err
	}
	folder := storage.Sub(w.Ends.Destination, w.staging())
	name := w.inside(w.disk.After.Place.Path) + salvage.Extension
	if err := folder.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return destination(err)
	}
	if err := storage.WriteFile(folder, name, b.Bytes()); err != nil {
		return destination(fmt.Errorf("writing the map %s: %w", path.Base(name), err))
	}
	w.state.Files = append([]string{name}, w.state.Files...)
	return nil
}

// isSalvaged tells whether what was read of a disk that fails is there still.
func (w *work) isSalvaged() bool {
	_, err := os.Stat(filepath.Join(w.changed(), mapFile))
	return !w.state.Salvaged || err == nil
}
