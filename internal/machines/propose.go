package machines

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/machine/propose"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/memory"
	"bagaglio/internal/records"

	"github.com/google/uuid"
)

// Proposal is a machine that is made around a disk, and its reasons. File and Definition are what it can be added by.
type Proposal struct {
	Is         machine.Machine
	Reasons    []string
	File       string
	Definition []byte
}

// Propose makes a machine around a disk in a pool of a host, which came alone.
func (m *Machines) Propose(ctx context.Context, on, pool, name, called string) (Proposal, error) {
	record, err := m.records.Pool(ctx, pool)
	if err != nil {
		return Proposal{}, err
	}
	if record.Host != on {
		return Proposal{}, fmt.Errorf("%w: the pool %s lies on the host %s, and %s could not use it", records.ErrInvalid, pool, record.Host, on)
	}
	folder, err := m.places.Open(ctx, record)
	if err != nil {
		return Proposal{}, err
	}
	if name, err = storage.Clean(name); err != nil {
		return Proposal{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	if called == "" {
		called = strings.TrimSuffix(path.Base(name), path.Ext(name))
	}
	f := propose.Facts{Name: called, UUID: uuid.NewString(), Disk: machine.Disk{File: record.Ground().Path(name)}}
	if err := lookInside(ctx, folder, name, "", &f); err != nil {
		return Proposal{}, err
	}
	if f.Limits, err = m.Limits(ctx, on); err != nil {
		return Proposal{}, err
	}
	if f.Networks, err = m.Networks(ctx, on); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return Proposal{}, err
	}
	if err := m.takes(ctx, on, f); err != nil {
		return Proposal{}, err
	}
	all, _, err := m.List(ctx, on)
	if err == nil {
		err = isFree(all, f.Disk)
	}
	if err != nil {
		return Proposal{}, err
	}
	p := Proposal{File: called + own.Extension}
	p.Is, p.Reasons = propose.Machine(f)
	p.Definition, err = machine.Become(nil, "", own.Name, p.Is)
	return p, err
}

// OfDevice is the machine that takes the place of a computer, around a disk of it, with the reasons. It is the same each time, as long as the disk and
// the host are.
func (m *Machines) OfDevice(ctx context.Context, folder storage.Folder, r plan.Request) (out Machine, reasons []string, err error) {
	of, ok := storage.As[interface{ Of() device.Computer }](folder)
	if !ok {
		return out, nil, fmt.Errorf("%w: %s is no disk of a computer", records.ErrInvalid, r.Source)
	}
	info, err := folder.Stat(r.Source.Path)
	if err != nil {
		return out, nil, err
	}
	c := of.Of()
	name := cmp.Or(r.Name, c.Name, "computer")
	what := strings.Join([]string{m.records.ID, info.ID, name, r.To}, "\x00")
	f := propose.Facts{
		Name: name, UUID: uuid.NewSHA1(uuid.Nil, []byte(what)).String(), Computer: &c, Fitted: r.Fit,
		Disk: machine.Disk{File: r.Source.Path, Format: "raw"},
	}
	if err := lookInside(ctx, folder, r.Source.Path, "raw", &f); err != nil {
		return out, nil, err
	}
	if r.To != "" {
		if f.Limits, err = m.Limits(ctx, r.To); err != nil {
			return out, nil, err
		}
		if f.Networks, err = m.Networks(ctx, r.To); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			return out, nil, err
		}
	}
	out.Is, reasons = propose.Machine(f)
	out.Name, out.UUID, out.State, out.Format = out.Is.Name, out.Is.UUID, host.Off, own.Name
	if out.Definition, err = machine.Become(nil, "", own.Name, out.Is); err != nil {
		return out, nil, err
	}
	out.Disks = []Disk{{Disk: out.Is.Disks[0], InPool: r.Source.Pool, Path: r.Source.Path}}
	return out, reasons, nil
}

// proposedFile is where the definition of a proposed machine lies, in a folder of its own.
const proposedFile = "proposed" + own.Extension

// Proposed is a machine of no host that is nowhere yet, by its definition.
func Proposed(definition []byte) step.Guests {
	folder := &memory.Folder{}
	if err := storage.WriteFile(folder, proposedFile, definition); err != nil {
		panic(err) // never in memory
	}
	return Shelf(folder, proposedFile)
}

// isFree fails for a disk that a machine of the host has: two would write to it.
func isFree(all []Machine, d machine.Disk) error {
	for _, other := range all {
		for _, has := range other.Is.Disks {
			if d.File != "" && path.Clean(has.File) == path.Clean(d.File) {
				return fmt.Errorf("%w: the disk %s is one of %s:%s already", records.ErrState, d.File, other.Host, other.Name)
			}
		}
	}
	return nil
}

// lookInside looks into the disk.
func lookInside(ctx context.Context, folder storage.Folder, name, format string, f *propose.Facts) error {
	r, err := disk.Open(ctx, folder, name, format)
	if err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	defer r.Close()
	f.Disk.Format = r.Describe().Format
	if f.Inside, err = inspect.Inside(r); err != nil {
		return fmt.Errorf("looking into %s: %w", name, err)
	}
	if f.Starts, err = inspect.StartsFrom(ctx, r); err != nil {
		return fmt.Errorf("looking what %s starts from: %w", name, err)
	}
	var sector [512]byte
	if _, err := r.ReadAt(sector[:], 0); err != nil {
		return fmt.Errorf("reading the first sector of %s: %w", name, err)
	}
	f.BootCode = sector[510] == 0x55 && sector[511] == 0xaa && len(bytes.Trim(sector[:440], "\x00")) > 0
	return nil
}

// takes fails for a disk in a form that the host does not take.
func (m *Machines) takes(ctx context.Context, on string, f propose.Facts) error {
	name, err := m.Format(ctx, on)
	if err != nil {
		return err
	}
	format, err := machine.Lookup(name)
	if err != nil {
		return err
	}
	if len(f.Limits.Formats) == 0 && !format.AnyImage {
		f.Limits.Formats = format.Images
	}
	if !machine.Takes(f.Limits.Formats, f.Disk.Format) {
		return fmt.Errorf("%w: %s takes no disk of the format %s, but %s: convert it first",
			records.ErrState, on, f.Disk.Format, strings.Join(f.Limits.Formats, ", "))
	}
	return nil
}
