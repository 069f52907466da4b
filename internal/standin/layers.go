package standin

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage/local"
)

// layer is an image that a disk is stored in, with those below it.
type layer struct {
	file, format string
}

// layersOf are those of a disk, the topmost first.
func (h *Host) layersOf(ctx context.Context, d machine.Disk) (all []layer, err error) {
	for file := d.File; file != ""; {
		r, err := h.openFile(ctx, file, "")
		if err != nil {
			return nil, err
		}
		is := r.Describe()
		all = append(all, layer{file, is.Format})
		below := is.Base
		if below != "" && !filepath.IsAbs(below) {
			below = filepath.Join(filepath.Dir(file), below)
		}
		if err := r.Close(); err != nil {
			return nil, err
		}
		file = below
	}
	return all, nil
}

// openFile opens an image.
func (h *Host) openFile(ctx context.Context, file, format string) (disk.Reader, error) {
	dir, name := h.at(file)
	folder, err := local.Open(dir)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return disk.Open(ctx, folder, name, format)
}

// drive does something with a disk of a machine that is on, while nothing is written to it, and tells for how long that is. It becomes what is returned.
func (h *Host) drive(
	ctx context.Context, m Which, slot string, do func(d machine.Disk, all []layer) (machine.Disk, error),
) (halted time.Duration, err error) {
	_, err = h.do(m, func(g *guest) error {
		if g.start == nil {
			return fmt.Errorf("%w: it is off", errRefused)
		}
		is := g.is
		is.Disks = slices.Clone(is.Disks)
		i := slices.IndexFunc(is.Disks, func(d machine.Disk) bool { return d.Slot == slot })
		if i < 0 {
			return fmt.Errorf("%w: it has no disk %s", errRefused, slot)
		}
		if g.State == host.Running {
			g.start.writes.halt()
			defer g.start.writes.goOn()
		}
		begun := time.Now()
		defer func() { halted = time.Since(begun) }()
		all, err := h.layersOf(ctx, is.Disks[i])
		if err != nil {
			return err
		}
		before := is.Disks[i]
		if is.Disks[i], err = do(before, all); err != nil || is.Disks[i] == before {
			return err
		}
		if err := h.over(ctx, g, before, is.Disks[i]); err != nil {
			return err
		}
		return g.become(is)
	})
	return halted, err
}

// over has a guest go over from one file to another.
func (h *Host) over(ctx context.Context, g *guest, from, to machine.Disk) error {
	g.start.unlock([]string{from.File})
	if err := g.start.lock(to.File); err != nil {
		return fmt.Errorf("%w: the disk %s is locked: %w", errRefused, to.Slot, err)
	}
	if from.Slot != g.is.Disks[0].Slot || g.start.writes == nil {
		return nil
	}
	next, _, err := h.targetOf(ctx, to)
	if err == nil {
		g.start.writes.goOver(next)
	}
	return err
}

// Layers are the files that a disk of a machine is stored in that is on.
func (h *Host) Layers(ctx context.Context, m Which, slot string) (files []string, err error) {
	_, err = h.drive(ctx, m, slot, func(d machine.Disk, all []layer) (machine.Disk, error) {
		for _, l := range all {
			files = append(files, l.file)
		}
		return d, nil
	})
	return files, err
}

// Cover puts new images on disks.
func (h *Host) Cover(ctx context.Context, m Which, layers map[string]string, atRest bool) (halted time.Duration, err error) {
	if atRest {
		return 0, fmt.Errorf("%w: nobody in the guest puts its filesystems at rest", errRefused)
	}
	for slot, file := range layers {
		one, err := h.drive(ctx, m, slot, func(d machine.Disk, _ []layer) (machine.Disk, error) {
			d.File, d.Format = file, "qcow2"
			return d, nil
		})
		if halted += one; err != nil {
			return halted, err
		}
	}
	return halted, nil
}

// Merge writes down into a file what lies above it, and removes that.
func (h *Host) Merge(ctx context.Context, m Which, slot, into string) (time.Duration, error) {
	return h.drive(ctx, m, slot, func(d machine.Disk, all []layer) (machine.Disk, error) {
		at := slices.IndexFunc(all, func(l layer) bool { return l.file == into })
		if at < 0 {
			return d, fmt.Errorf("%w: its disk %s does not stand on %s", errRefused, slot, into)
		}
		if at == 0 {
			return d, nil
		}
		if err := h.writeDown(ctx, all[:at], all[at]); err != nil {
			return d, err
		}
		d.File, d.Format = into, all[at].format
		return d, nil
	})
}

// Fold does so with what lies between that and what the guest writes to.
func (h *Host) Fold(ctx context.Context, m Which, slot, from, into string) error {
	_, err := h.drive(ctx, m, slot, func(d machine.Disk, all []layer) (machine.Disk, error) {
		at := func(file string) int { return slices.IndexFunc(all, func(l layer) bool { return l.file == file }) }
		above, below := at(from), at(into)
		if below > 0 && above < 0 { // an earlier time did it
			return d, nil
		}
		if above < 1 || below <= above {
			return d, fmt.Errorf("%w: the images of its disk %s do not lie so", errRefused, slot)
		}
		if err := h.writeDown(ctx, all[above:below], all[below]); err != nil {
			return d, err
		}
		folder, err := local.Open("/")
		if err != nil {
			return d, err
		}
		defer folder.Close()
		format, err := disk.Lookup("qcow2")
		if err != nil {
			return d, err
		}
		name := all[above-1].file[1:]
		_, err = format.RenameIn(folder, name, map[string]string{from: into, filepath.Base(from): filepath.Base(into)})
		return d, err
	})
	return err
}

// Mirror copies what the topmost image of a disk has of its own to another one, which the guest goes on from.
func (h *Host) Mirror(ctx context.Context, m Which, slot string, to machine.Disk) (time.Duration, error) {
	return h.drive(ctx, m, slot, func(d machine.Disk, all []layer) (machine.Disk, error) {
		if all[0].file == to.File {
			return d, nil
		}
		if err := h.copyOwn(ctx, all[0], layer{to.File, to.Format}); err != nil {
			return d, err
		}
		d.File, d.Format, d.Remote = to.File, to.Format, ""
		return d, nil
	})
}

// writeDown copies what images have of their own into the one below them, and removes them.
func (h *Host) writeDown(ctx context.Context, above []layer, into layer) error {
	for _, l := range slices.Backward(above) {
		if err := h.copyOwn(ctx, l, into); err != nil {
			return err
		}
	}
	for _, l := range above {
		if err := os.Remove(l.file); err != nil {
			return err
		}
	}
	return nil
}

// copyOwn copies what an image has of its own into another one.
func (h *Host) copyOwn(ctx context.Context, from, into layer) (err error) {
	r, err := h.openFile(ctx, from.file, from.format)
	if err != nil {
		return err
	}
	defer r.Close()
	own, ok := r.(disk.Locator)
	if !ok {
		return fmt.Errorf("%w: what %s has of its own is not told", errRefused, from.file)
	}
	to, _, err := h.targetOf(ctx, machine.Disk{File: into.file, Format: into.format})
	if err == nil && to == nil {
		err = fmt.Errorf("%w: %s is not of a form that it writes to", errRefused, into.file)
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	buffer := make([]byte, 1<<20)
	for off := int64(0); off < r.Size(); {
		at, err := own.Locate(off)
		if err != nil {
			return err
		}
		if at.Kind == disk.Hole {
			off += at.Len
			continue
		}
		b := buffer[:min(at.Len, int64(len(buffer)))]
		if err := disk.ReadFull(r, b, off); err != nil {
			return err
		}
		if _, err := to.WriteAt(b, off); err != nil {
			return err
		}
		off += int64(len(b))
	}
	return nil
}

// borrowed is a disk that is read over the network, and that is written to in an image.
type borrowed struct {
	disk.Reader // the image
	from        disk.Reader
}

// ReadAt reads what the image has of its own from there.
func (b borrowed) ReadAt(p []byte, off int64) (n int, err error) {
	own, ok := b.Reader.(disk.Locator)
	if !ok {
		return 0, errRefused
	}
	return disk.ReadRuns(p, off, b.Size(), func(p []byte, off int64) (int, error) {
		at, err := own.Locate(off)
		if err != nil {
			return 0, err
		}
		p = p[:min(int64(len(p)), at.Len)]
		from := b.from
		if at.Kind != disk.Hole {
			from = b.Reader
		}
		return len(p), disk.ReadFull(from, p, off)
	})
}

// Close closes both.
func (b borrowed) Close() error { return errors.Join(b.Reader.Close(), b.from.Close()) }

// open opens a disk as its guest sees it.
func (h *Host) open(ctx context.Context, d machine.Disk) (disk.Reader, error) {
	if d.Remote == "" {
		return h.openFile(ctx, d.File, d.Format)
	}
	from, err := connect(ctx, d)
	if err != nil || d.File == "" {
		return from, err
	}
	r, err := h.openFile(ctx, d.File, d.Format)
	if err != nil {
		return nil, errors.Join(err, from.Close())
	}
	return borrowed{r, from}, nil
}

// target is what a guest writes to.
type target interface {
	WriteAt(b []byte, off int64) (int, error)
	Close() error
}

// targetOf is that of a disk, and its size, or nil for one that does not store what is written as it is.
func (h *Host) targetOf(ctx context.Context, d machine.Disk) (to target, size int64, err error) {
	r, err := h.openFile(ctx, d.File, d.Format)
	if err != nil {
		return nil, 0, err
	}
	is := r.Describe()
	if err := r.Close(); err != nil {
		return nil, 0, err
	}
	dir, name := h.at(d.File)
	data := slices.Clone(is.Files)
	switch {
	case is.Format == "qcow2" && h.traits.Layers:
		ctx = context.WithoutCancel(ctx) // it is written to later
		to, err = openOverlay(d.File, func() (disk.Reader, error) { return h.open(ctx, d) })
		return to, is.VirtualSize, err
	case is.Format == "vmdk" && is.Layout == "flat":
		data = slices.DeleteFunc(data, func(f string) bool { return f == name }) // which describes it
	case is.Format != "raw":
		return nil, 0, nil
	}
	if len(data) != 1 {
		return nil, 0, nil
	}
	to, err = os.OpenFile(filepath.Join(dir, data[0]), os.O_WRONLY, 0)
	return to, is.VirtualSize, err
}
